namespace Vestige.Web.Api;

/// <summary>Why changes may be lost.</summary>
public sealed record DropBody(string? Reason);
