namespace Vestige.Engine.Faults;

/// <summary>A newer worker has taken over, or the target's position is not the one this worker left there.</summary>
public sealed class FencedException : PortException
{
    /// <summary>The term at work, where the target reported it; else 0.</summary>
    public long Term { get; init; }

    public FencedException() { }

    public FencedException(string message)
        : base(message) { }

    public FencedException(string message, Exception? innerException)
        : base(message, innerException) { }
}
