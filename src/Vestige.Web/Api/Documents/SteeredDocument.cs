namespace Vestige.Web.Api.Documents;

/// <summary>What came of a request to one of several crossings.</summary>
public sealed record SteeredDocument(string Name, bool Done, string? Problem);
