using Vestige.Core.Treatments;
using Vestige.Engine.Quarantining;

namespace Vestige.Engine.Tracing;

/// <summary>A change in one crossing.</summary>
/// <param name="Crossing">The crossing.</param>
/// <param name="Stage">How far it has come.</param>
/// <param name="AppliedAt">
/// When it was applied, to a tenth of a second lately and to a minute within a day, by whichever process; null when it was not or that is
/// not remembered.
/// </param>
/// <param name="Made">What the treatment makes of it now.</param>
/// <param name="Problem">Why the treatment makes nothing of it; null when it does.</param>
/// <param name="Quarantined">Its entry in quarantine; null when it has none.</param>
/// <param name="Decided">What was last decided of it in quarantine, if its row was edited or it was dropped; null when it was not.</param>
public sealed record TracedStep(
    string Crossing,
    TraceStage Stage,
    DateTimeOffset? AppliedAt,
    IReadOnlyList<TreatedChange> Made,
    string? Problem,
    WaitingChange? Quarantined,
    DecidedChange? Decided
);
