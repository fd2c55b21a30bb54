using Vestige.Web.Api.Describing;

namespace Vestige.Web.Api;

/// <summary>Several crossings to steer: by name, by tag, or both.</summary>
public sealed record SteerBody(
    [property: Choices("pause", "resume", "stop")] string Action,
    IReadOnlyList<string>? Names = null,
    string? Tag = null
);
