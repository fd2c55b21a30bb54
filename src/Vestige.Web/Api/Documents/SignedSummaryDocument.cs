namespace Vestige.Web.Api.Documents;

/// <summary>A comparison as a JWS in its flattened JSON form (RFC 7515, 7.2.2), with what was signed beside it for reading.</summary>
public sealed record SignedSummaryDocument(ReconciliationDocument Summary, string Payload, string Protected, string Signature);
