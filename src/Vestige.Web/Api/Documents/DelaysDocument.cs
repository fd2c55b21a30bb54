namespace Vestige.Web.Api.Documents;

/// <summary>Delays per transaction over a window, in seconds; null without transactions.</summary>
public sealed record DelaysDocument(double Window, long Transactions, double? P50, double? P95, double? P99);
