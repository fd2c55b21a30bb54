using System.Globalization;
using Vestige.Core.Lag;

namespace Vestige.Web.Measures;

/// <summary>Delays per transaction over a window: nearest rank, within one percent.</summary>
/// <param name="Words">The window, for people.</param>
/// <param name="Window">The window; where less was measured, that.</param>
/// <param name="Transactions">How many were applied in it.</param>
/// <param name="P50">Half were faster; null when none was applied.</param>
/// <param name="P95">95 of 100 were faster.</param>
/// <param name="P99">99 of 100 were faster.</param>
/// <param name="Since">Since when it was measured, where that is less than the window; else null.</param>
public sealed record DelayWindow(
    string Words,
    TimeSpan Window,
    long Transactions,
    TimeSpan? P50,
    TimeSpan? P95,
    TimeSpan? P99,
    DateTimeOffset? Since = null
)
{
    /// <summary>A window that ends now; where measuring began later than it does, it begins there and says so.</summary>
    /// <param name="words">The window, for people.</param>
    /// <param name="window">The window.</param>
    /// <param name="delays">What was measured in it.</param>
    /// <param name="first">When measuring began.</param>
    /// <param name="now">The moment.</param>
    public static DelayWindow Of(string words, TimeSpan window, DelayHistogram delays, DateTimeOffset first, DateTimeOffset now)
    {
        ArgumentNullException.ThrowIfNull(delays);

        // Slots are read whole: the first one may begin a little after the window does.
        var isWhole = first <= now - window + (window / 20);
        var since = first.UtcDateTime.ToString(now - first < TimeSpan.FromDays(1) ? "HH:mm" : "MM-dd HH:mm", CultureInfo.InvariantCulture);
        return new(
            isWhole ? words : $"since {since}",
            isWhole ? window : now - first,
            delays.Count,
            delays.Quantile(0.5),
            delays.Quantile(0.95),
            delays.Quantile(0.99),
            isWhole ? null : first
        );
    }
}
