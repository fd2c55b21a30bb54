namespace Vestige.Engine.Faults;

/// <summary>What was asked cannot be done in the present state; nothing was changed.</summary>
public class RequestRefusedException : Exception
{
    public RequestRefusedException() { }

    public RequestRefusedException(string message)
        : base(message) { }

    public RequestRefusedException(string message, Exception? innerException)
        : base(message, innerException) { }

    /// <summary>What to do instead.</summary>
    public string Remedy { get; init; } = "";
}
