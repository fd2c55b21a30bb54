namespace Vestige.Web.Views;

/// <summary>What happens to some tables, from left to right.</summary>
/// <param name="Name">Which tables.</param>
/// <param name="Stretches">In their order.</param>
public sealed record LogLane(string Name, IReadOnlyList<LogStretch> Stretches);
