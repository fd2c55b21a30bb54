namespace Vestige.Web.Api.Documents;

/// <summary>Seconds at the better and at the worse quartiles; null where it does not happen at these.</summary>
public sealed record RangeDocument(double? SoonestSeconds, double? LatestSeconds);
