namespace Vestige.Web.Crossings;

/// <summary>What came of steering one of several crossings.</summary>
/// <param name="Crossing">Its name.</param>
/// <param name="Problem">Why it was not done; null when it was.</param>
public sealed record SteerOutcome(string Crossing, string? Problem);
