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

    public NotReadyException(IReadOnlyList<ReadinessCheck> checks)
        : base(string.Join(" ", checks.Where(check => !check.Ok).Select(Sentences))) =>
        Checks = checks;

    public IReadOnlyList<ReadinessCheck> Checks { get; } = [];

    /// <summary>What was found may be sentences of its own, as a system's answer is.</summary>
    private static string Sentences(ReadinessCheck check) => $"{check.Step}: {check.Found.TrimEnd('.')}. {check.Remedy}";
}
