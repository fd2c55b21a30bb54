namespace Vestige.Web.Api.Documents;

/// <summary>Rows that were there, or missing, against expectation.</summary>
public sealed record UnexpectedDocument(long AlreadyThere, long Missing);
