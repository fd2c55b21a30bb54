using Microsoft.Extensions.Logging;
using Vestige.Core.Crossings;
using Vestige.Engine.Capturing;
using Vestige.Engine.Events;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;
using Vestige.Engine.Quarantining;
using Vestige.Engine.Reconciling;
using Vestige.Engine.Rewinding;
using Vestige.Engine.Treating;

namespace Vestige.Engine.Workers;

/// <summary>What all parts of one worker work with.</summary>
internal sealed record WorkerContext
{
    /// <summary>What happens to rows.</summary>
    public required CrossingTreatment Treating { get; init; }

    public required SourceSystem Source { get; init; }

    public required TargetSystem Target { get; init; }

    /// <summary>The capture of the source's log.</summary>
    public required Capture Capture { get; init; }

    /// <summary>What the worker is seen to do.</summary>
    public required WorkerState State { get; init; }

    public required FirstStart FirstStart { get; init; }

    public required CrossingMeter Meter { get; init; }

    public required Quarantine Quarantine { get; init; }

    /// <summary>How many refused rows may wait, as the definition says now; null where none may.</summary>
    public required Func<QuarantineRule?> Rule { get; init; }

    /// <summary>How late the other tables may be before a load beside them is slowed, as the definition says now.</summary>
    public required Func<TimeSpan> LoadLag { get; init; }

    /// <summary>What comparisons have found.</summary>
    public required Verdicts Verdicts { get; init; }

    /// <summary>Rows that people asked to have repaired.</summary>
    public required RepairQueue Repairs { get; init; }

    /// <summary>Changes that people asked to have applied again.</summary>
    public required RewindQueue Rewinds { get; init; }

    public required EventLog Events { get; init; }

    public required TimeProvider Clock { get; init; }

    public required ILogger Logger { get; init; }

    public CrossingDefinition Definition => Treating.Definition;

    public string Crossing => Treating.Definition.Name;
}
