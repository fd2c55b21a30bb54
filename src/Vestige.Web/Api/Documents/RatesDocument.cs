namespace Vestige.Web.Api.Documents;

/// <summary>Changes per second.</summary>
public sealed record RatesDocument(double? Arriving, double? Applied);
