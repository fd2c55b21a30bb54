namespace Vestige.Core.Lag;

/// <summary>
/// The log-time axis of the wake: now at 1, older to the left, each decade the same width. Ages under
/// <see cref="Near"/> are drawn at now, ages over <see cref="Far"/> at 0.
/// </summary>
public static class WakeAxis
{
    public static readonly TimeSpan Near = TimeSpan.FromMilliseconds(100);
    public static readonly TimeSpan Far = TimeSpan.FromHours(6);
    private static readonly double Decades = Math.Log10(Far / Near);

    /// <summary>Where an age stands, from 0 (far left) to 1 (now).</summary>
    public static double Place(TimeSpan age)
    {
        var clamped =
            age < Near ? Near
            : age > Far ? Far
            : age;
        return 1 - (Math.Log10(clamped / Near) / Decades);
    }

    /// <summary>The ages at which the axis is labelled, oldest first.</summary>
    public static IReadOnlyList<(TimeSpan Age, string Label)> Ticks { get; } =
    [
        (TimeSpan.FromHours(1), "1 h"),
        (TimeSpan.FromMinutes(10), "10 min"),
        (TimeSpan.FromMinutes(1), "1 min"),
        (TimeSpan.FromSeconds(10), "10 s"),
        (TimeSpan.FromSeconds(1), "1 s"),
    ];
}
