namespace Vestige.Web.Measures;

/// <summary>Delays per transaction over a window: nearest rank, within one percent.</summary>
/// <param name="Words">The window, for people.</param>
/// <param name="Window">The window.</param>
/// <param name="Transactions">How many were applied in it.</param>
/// <param name="P50">Half were faster; null when none was applied.</param>
/// <param name="P95">95 of 100 were faster.</param>
/// <param name="P99">99 of 100 were faster.</param>
public sealed record DelayWindow(string Words, TimeSpan Window, long Transactions, TimeSpan? P50, TimeSpan? P95, TimeSpan? P99);
