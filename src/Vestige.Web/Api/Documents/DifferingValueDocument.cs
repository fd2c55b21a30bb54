namespace Vestige.Web.Api.Documents;

/// <summary>A column of a row that differs; of a masked value only type and length.</summary>
public sealed record DifferingValueDocument(string Column, string? Expected, string? Found, bool Differs, bool Masked);
