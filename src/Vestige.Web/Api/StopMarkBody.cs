namespace Vestige.Web.Api;

/// <summary>Where to stop: exactly one of the two.</summary>
public sealed record StopMarkBody(string? Position = null, DateTimeOffset? Time = null, bool? AsOfNow = null);
