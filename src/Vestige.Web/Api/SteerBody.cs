namespace Vestige.Web.Api;

/// <summary>Several crossings to steer: by name, by tag, or both.</summary>
public sealed record SteerBody(string Action, IReadOnlyList<string>? Names = null, string? Tag = null);
