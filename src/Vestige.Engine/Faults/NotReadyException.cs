using Vestige.Core.Readiness;

namespace Vestige.Engine.Faults;

/// <summary>A crossing cannot start; nothing was changed.</summary>
public sealed class NotReadyException : Exception
{
    public NotReadyException() { }

    public NotReadyException(string message)
        : base(message) { }

    public NotReadyException(string message, Exception? innerException)
        : base(message, innerException) { }

    public NotReadyException(IReadOnlyList<ReadinessCheck> lines)
        : base(string.Join(" ", lines.Where(line => !line.Ok).Select(line => $"{line.Step}: {line.Found}. {line.Remedy}"))) =>
        Lines = lines;

    public IReadOnlyList<ReadinessCheck> Lines { get; } = [];
}
