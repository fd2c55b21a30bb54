namespace Vestige.Web.Api.Documents;

/// <summary>A table that the rules take and that cannot cross.</summary>
public sealed record LeftOutTableDocument(string Source, string? Reason);
