using Vestige.Engine.Spooling;

namespace Vestige.Engine.Supervision;

/// <summary>How the engine is set up.</summary>
/// <param name="Spool">Sizes of each source's spool.</param>
/// <param name="AssumedRowsPerSecond">The rate of a load that estimates assume until one was measured.</param>
public sealed record EngineOptions(SpoolOptions Spool, double AssumedRowsPerSecond = 100_000);
