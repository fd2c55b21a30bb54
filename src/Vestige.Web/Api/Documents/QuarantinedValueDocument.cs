namespace Vestige.Web.Api.Documents;

/// <summary>A column of a row that waits; of a masked value only type and length.</summary>
public sealed record QuarantinedValueDocument(string Column, string Type, string? Before, string? After, bool Masked);
