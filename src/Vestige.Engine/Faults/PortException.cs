namespace Vestige.Engine.Faults;

/// <summary>
/// A system outside could not do what was asked. Says what was tried, what it answered and what to do; the engine decides
/// by <see cref="Transient"/> whether it tries again by itself.
/// </summary>
public class PortException : Exception
{
    public PortException() { }

    public PortException(string message)
        : base(message) { }

    public PortException(string message, Exception? innerException)
        : base(message, innerException) { }

    /// <summary>Whether waiting may help.</summary>
    public bool Transient { get; init; }

    /// <summary>What a person can do about it; null when there is nothing but to wait.</summary>
    public string? Remedy { get; init; }
}
