namespace Vestige.Web.Connections;

/// <summary>What the latest test of a connection gave.</summary>
/// <param name="At">When it ended.</param>
/// <param name="Version">The system's version, in its own words; null where the test did not come to it.</param>
/// <param name="Problem">The first check that failed, with what was found; null when all passed.</param>
public sealed record CheckedConnection(DateTimeOffset At, string? Version, string? Problem);
