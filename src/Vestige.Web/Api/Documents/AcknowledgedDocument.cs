namespace Vestige.Web.Api.Documents;

/// <summary>The alert that was acknowledged.</summary>
public sealed record AcknowledgedDocument(long Number);
