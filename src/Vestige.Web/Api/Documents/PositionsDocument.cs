namespace Vestige.Web.Api.Documents;

/// <summary>Positions in the source's notation.</summary>
public sealed record PositionsDocument(string? Head, string? Captured, string? Spooled, string? Applied, string? ProvedEqual);
