namespace Vestige.Core.Headlines;

/// <summary>Something that went wrong, as whoever refused said it.</summary>
/// <param name="What">What happened, as a sentence.</param>
/// <param name="Remedy">What to do, as a sentence; null when there is nothing but to wait.</param>
/// <param name="Since">Since when; null where that is not known.</param>
public sealed record Trouble(string What, string? Remedy = null, DateTimeOffset? Since = null);
