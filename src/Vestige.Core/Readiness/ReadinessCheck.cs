namespace Vestige.Core.Readiness;

/// <summary>One thing that must hold, with what was seen and how to remedy it.</summary>
/// <param name="Step">What is looked at.</param>
/// <param name="Ok">Whether it holds.</param>
/// <param name="Found">What was found, in the system's CAs words where it answered.</param>
/// <param name="Needed">What is needed.</param>
/// <param name="Remedy">What to do; null when it holds.</param>
/// <param name="Took">How long the look took.</param>
public sealed record ReadinessCheck(string Step, bool Ok, string Found, string Needed, string? Remedy, TimeSpan Took)
{
    /// <summary>Whether a person should know what was found although nothing is wrong.</summary>
    public bool IsWarning { get; init; }

    /// <summary>Whether a person may let the crossing start although it does not hold.</summary>
    public bool MayAccept { get; init; }

    /// <summary>What a start would destroy, counted; null when nothing is. A person agrees to it by typing the crossing's name.</summary>
    public string? Loses { get; init; }
}
