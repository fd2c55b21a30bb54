namespace Vestige.Core.Crossings;

/// <summary>How a crossing begins.</summary>
public sealed record StartOptions(ExistingRows Existing = ExistingRows.Refuse);
