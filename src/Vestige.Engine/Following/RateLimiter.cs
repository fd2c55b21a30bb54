using Vestige.Core.Crossings;
using Vestige.Core.Text;

namespace Vestige.Engine.Following;

/// <summary>
/// Keeps a crossing from applying in its windows of rest, and from applying more changes a second than it may. Asked before each
/// batch. What it says may be looked at from any thread.
/// </summary>
internal sealed class RateLimiter(Func<CrossingDefinition> definition, TimeProvider clock)
{
    private static readonly TimeSpan LongestWait = TimeSpan.FromSeconds(30);
    private DateTimeOffset free;
    private volatile string? resting;

    /// <summary>Why nothing is applied now; null when something may be.</summary>
    public string? Resting => resting;

    /// <summary>The most changes of one batch, so that a limit is kept evenly.</summary>
    public int MostChanges => definition().ChangesPerSecond is { } limit ? (int)Math.Clamp(limit, 1, int.MaxValue) : int.MaxValue;

    /// <summary>How long nothing may be applied from now on, as far as it can be told; zero when something may be.</summary>
    public TimeSpan Wait()
    {
        var (current, now) = (definition(), clock.GetUtcNow());
        var end = (current.Rest ?? []).Select(window => window.EndAt(now)).Max();
        if (end is { } until)
        {
            resting = $"Nothing is applied until {until.UtcDateTime:yyyy-MM-dd HH:mm} UTC: a window of rest.";
            return Shorter(until - now);
        }

        if (current.ChangesPerSecond is { } limit && free > now)
        {
            resting = $"Held to {Figures.Rate(limit)} changes a second by its limit.";
            return Shorter(free - now);
        }

        resting = null;
        return TimeSpan.Zero;
    }

    /// <summary>Notes that so many changes were applied.</summary>
    public void Applied(long changes)
    {
        if (definition().ChangesPerSecond is { } limit)
        {
            var now = clock.GetUtcNow();
            free = (free > now ? free : now) + TimeSpan.FromSeconds(changes / limit);
        }
    }

    /// <summary>A definition may change meanwhile; so it is asked again.</summary>
    private static TimeSpan Shorter(TimeSpan wait) => wait < LongestWait ? wait : LongestWait;
}
