using Vestige.Core.Crossings;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Supervision;

/// <summary>A crossing within the engine. Its fields change under <see cref="Turn"/> or by the engine's timer only.</summary>
internal sealed class CrossingEntry(StoredCrossing stored)
{
    public StoredCrossing Stored { get; set; } = stored;

    public CrossingWorker? Worker { get; set; }

    public CrossingMeter Meter { get; } = new();

    /// <summary>What the target last said, for a crossing that does not run; null while it runs and until it was asked.</summary>
    public TargetProgress? Known { get; set; }

    /// <summary>What the spool knows of the applied position, as of the last second.</summary>
    public SpoolPlace? Place { get; set; }

    /// <summary>Why what it needs could not be opened; null when it was.</summary>
    public CrossingFault? Trouble { get; set; }

    public bool Checking { get; set; }

    /// <summary>Whether it was last seen to keep up.</summary>
    public bool KeepsUp { get; set; }

    public CrossingState LastState { get; set; } = CrossingState.Draft;

    public DateTimeOffset StateSince { get; set; } = stored.Since;

    /// <summary>One request at a time.</summary>
    public Turnstile Turn { get; } = new();

    public string Name => Stored.Definition.Name;
}
