using Vestige.Core.Readiness;
using Vestige.Core.Text;

namespace Vestige.Engine.Faults;

/// <summary>What was asked would destroy something on a target, and nobody has agreed to that; nothing was changed.</summary>
public sealed class LossRefusedException : RequestRefusedException
{
    private const int NamedAtMost = 8;

    public LossRefusedException() { }

    public LossRefusedException(string message)
        : base(message) { }

    public LossRefusedException(string message, Exception? innerException)
        : base(message, innerException) { }

    private LossRefusedException(string crossing, IReadOnlyList<string> losses)
        : base($"On the target would be lost: {Figures.Listed(losses, NamedAtMost)}.")
    {
        Losses = losses;
        Remedy = $"Give the crossing's name, {crossing}, to agree to it.";
    }

    /// <summary>Each thing that would be lost, counted.</summary>
    public IReadOnlyList<string> Losses { get; } = [];

    /// <summary>Throws when checks tell of a loss and the crossing's name was not given.</summary>
    /// <param name="crossing">The crossing's name.</param>
    /// <param name="checks">What was found.</param>
    /// <param name="typed">What a person typed; null for nothing.</param>
    public static void ThrowUnlessAgreed(string crossing, IEnumerable<ReadinessCheck> checks, string? typed)
    {
        var losses = checks.Select(check => check.Loses).OfType<string>().ToList();
        if (losses.Count > 0 && typed != crossing)
        {
            throw new LossRefusedException(crossing, losses);
        }
    }
}
