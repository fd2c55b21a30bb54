using Vestige.Engine.Ports;

namespace Vestige.Engine.Commands;

/// <summary>What an installation keeps, by subject.</summary>
/// <param name="Control">Definitions, and what is asked of each crossing.</param>
/// <param name="Quarantine">Changes that targets refused.</param>
public sealed record EngineStores(IControlStore Control, IQuarantineStore Quarantine)
{
    /// <summary>Measures of crossings; null where none are kept.</summary>
    public IMeasureStore? Measures { get; init; }

    /// <summary>Alerts; null where nothing is watched.</summary>
    public IAlertStore? Alerts { get; init; }

    /// <summary>Runs of crossings; null where none are kept.</summary>
    public IRunStore? Runs { get; init; }

    /// <summary>Versions of sources' tables; null where none are kept.</summary>
    public ISchemaVersionStore? SchemaVersions { get; init; }

    /// <summary>What comparisons found; null where that is not kept through a restart.</summary>
    public IReconciliationStore? Reconciliations { get; init; }

    /// <summary>Tables that can be restored; null where none are kept.</summary>
    public IUndoStore? Undo { get; init; }

    /// <summary>What is to be applied again; null where that is not kept through a restart.</summary>
    public IRewindStore? Rewinds { get; init; }
}
