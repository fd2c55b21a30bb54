namespace Vestige.Demo.Workload;

/// <summary>How busy the libraries are through a day. So that one sees it, a library day lasts 20 minutes.</summary>
public static class DailyRhythm
{
    public static readonly TimeSpan LibraryDay = TimeSpan.FromMinutes(20);

    /// <summary>The hour of the library day, 0 to 24.</summary>
    public static double HourAt(DateTimeOffset moment) => moment.UtcTicks % LibraryDay.Ticks * 24.0 / LibraryDay.Ticks;

    /// <summary>The share of the set rate at an hour: 0.3 at night, two peaks at 11 and 17 reaching 1.</summary>
    public static double ShareAt(double hour)
    {
        static double Peak(double hour, double at, double width) => Math.Exp(-Math.Pow((hour - at) / width, 2));
        return 0.3 + (0.7 * Math.Min(1, Peak(hour, 11, 2.5) + Peak(hour, 17, 2.5)));
    }
}
