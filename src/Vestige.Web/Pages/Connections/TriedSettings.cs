using Vestige.Core.Readiness;

namespace Vestige.Web.Pages.Connections;

/// <summary>Other settings of a connection that were sent and are not in force, without their secret.</summary>
/// <param name="Connection">The connection.</param>
/// <param name="Settings">What was typed, by field.</param>
/// <param name="Checks">What testing them gave; empty where they were not tested, since something is wrong with them.</param>
/// <param name="SecretTyped">Whether a secret was typed with them.</param>
internal sealed record TriedSettings(
    string Connection,
    IReadOnlyDictionary<string, string> Settings,
    IReadOnlyList<ReadinessCheck> Checks,
    bool SecretTyped
);
