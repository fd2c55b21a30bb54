namespace Vestige.Web.Api;

/// <summary>Who has seen something, and what they say.</summary>
public sealed record AcknowledgeBody(string? Note = null, string? By = null);
