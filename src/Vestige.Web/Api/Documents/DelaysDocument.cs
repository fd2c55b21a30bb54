namespace Vestige.Web.Api.Documents;

/// <summary>Delays per transaction over a window, in seconds; null without transactions.</summary>
/// <param name="Window">The window in seconds; where less was measured, that.</param>
/// <param name="Transactions">How many were applied in it.</param>
/// <param name="P50">Half were faster.</param>
/// <param name="P95">95 of 100 were faster.</param>
/// <param name="P99">99 of 100 were faster.</param>
/// <param name="Since">Since when it was measured, where that is less than the window.</param>
public sealed record DelaysDocument(
    double Window,
    long Transactions,
    double? P50,
    double? P95,
    double? P99,
    [property: Describing.Time] string? Since
);
