using Vestige.Engine.Spooling;

namespace Vestige.Engine.Commands;

/// <summary>How the engine is set up.</summary>
/// <param name="Spool">Sizes of each source's spool.</param>
/// <param name="AssumedRowsPerSecond">The rate of a load that estimates assume until one was measured.</param>
/// <param name="CheckEvery">How often it is checked whether what held when a crossing was started still does; null for ten minutes.</param>
/// <param name="LookEvery">How often tables are looked for that were made at a source since; null for a minute.</param>
public sealed record EngineOptions(
    SpoolOptions Spool,
    double AssumedRowsPerSecond = 100_000,
    TimeSpan? CheckEvery = null,
    TimeSpan? LookEvery = null
);
