namespace Vestige.Web.Api.Documents;

/// <summary>How many rows of a table are loaded.</summary>
public sealed record LoadDocument(long Done, long Of);
