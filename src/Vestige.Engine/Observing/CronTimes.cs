using Cronos;
using Vestige.Core.Crossings;
using Vestige.Engine.Faults;

namespace Vestige.Engine.Observing;

/// <summary>The times of schedules.</summary>
public static class CronTimes
{
    /// <summary>Throws <see cref="RequestRefusedException"/> for a schedule that cannot be followed.</summary>
    public static void Check(RunSchedule schedule)
    {
        ArgumentNullException.ThrowIfNull(schedule);
        if (schedule.EverySeconds is null == string.IsNullOrWhiteSpace(schedule.Cron))
        {
            throw new RequestRefusedException("The schedule has neither or both of cron and everySeconds.")
            {
                Remedy = "Give exactly one of them.",
            };
        }

        if (schedule.EverySeconds is not (null or (>= 1 and <= 31_536_000)))
        {
            throw new RequestRefusedException("The pause between runs is not from 1 s to a year.") { Remedy = "Give seconds." };
        }

        if (!TimeZoneInfo.TryFindSystemTimeZoneById(schedule.Zone, out _))
        {
            throw new RequestRefusedException($"'{schedule.Zone}' is not a known time zone.")
            {
                Remedy = "Use an IANA name such as Europe/Vienna, or UTC.",
            };
        }

        if (schedule.Cron is { } cron && !TryParse(cron, out _))
        {
            throw new RequestRefusedException($"'{cron}' is not a cron expression.")
            {
                Remedy = "Write minute, hour, day of month, month and day of week, for example 30 2 * * MON-FRI.",
            };
        }
    }

    /// <summary>When the next run begins.</summary>
    /// <param name="schedule">A schedule that was checked.</param>
    /// <param name="ended">When the last run ended; null when there was none.</param>
    /// <param name="now">The moment.</param>
    public static DateTimeOffset? Next(RunSchedule schedule, DateTimeOffset? ended, DateTimeOffset now)
    {
        ArgumentNullException.ThrowIfNull(schedule);
        if (schedule.EverySeconds is { } seconds)
        {
            return ended is { } last ? last + TimeSpan.FromSeconds(seconds) : now;
        }

        var zone = TimeZoneInfo.TryFindSystemTimeZoneById(schedule.Zone, out var found) ? found : TimeZoneInfo.Utc;
        return TryParse(schedule.Cron ?? "", out var times) ? times!.GetNextOccurrence(ended ?? now, zone) : null;
    }

    private static bool TryParse(string cron, out CronExpression? times) =>
        CronExpression.TryParse(
            cron,
            cron.Split(' ', StringSplitOptions.RemoveEmptyEntries).Length == 6 ? CronFormat.IncludeSeconds : CronFormat.Standard,
            out times
        );
}
