namespace Vestige.Engine.Faults;

/// <summary>The log (or the spool) no longer holds what comes after a position. Only a new load helps.</summary>
public sealed class PlaceLostException : PortException
{
    public PlaceLostException()
    {
    }

    public PlaceLostException(string message)
        : base(message)
    {
    }

    public PlaceLostException(string message, Exception? innerException)
        : base(message, innerException)
    {
    }
}
