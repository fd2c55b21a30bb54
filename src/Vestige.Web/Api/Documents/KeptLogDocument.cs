namespace Vestige.Web.Api.Documents;

/// <summary>The position after which the source's log is kept.</summary>
public sealed record KeptLogDocument(string Name, string After);
