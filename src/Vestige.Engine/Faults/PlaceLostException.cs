using Vestige.Core.Positions;

namespace Vestige.Engine.Faults;

/// <summary>The log (or the spool) no longer holds what comes after a position. Only a new load helps.</summary>
public sealed class PlaceLostException : PortException
{
    /// <summary>
    /// The position from which the log can still be read, where it is the same log and someone else has confirmed what came before; null
    /// where nothing helps but a new load.
    /// </summary>
    public LogPosition? ContinuesAt { get; init; }

    public PlaceLostException() { }

    public PlaceLostException(string message)
        : base(message) { }

    public PlaceLostException(string message, Exception? innerException)
        : base(message, innerException) { }
}
