namespace Vestige.Engine.Faults;

/// <summary>Vestige's own store cannot be read or written now: its disk is full, or it is busy.</summary>
public sealed class StoreException : PortException
{
    public StoreException() { }

    public StoreException(string message)
        : base(message) { }

    public StoreException(string message, Exception innerException)
        : base(message, innerException) { }

    /// <summary>Whether there is no room on its disk.</summary>
    public bool IsFull { get; init; }
}
