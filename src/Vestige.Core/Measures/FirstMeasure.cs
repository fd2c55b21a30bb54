namespace Vestige.Core.Measures;

/// <summary>When measuring began, from what is kept of it.</summary>
public static class FirstMeasure
{
    /// <summary>
    /// The earliest moment that is known to be measured; null where nothing was. A coarse slot begins before its first measure, so it
    /// counts only where nothing finer reaches into it.
    /// </summary>
    /// <param name="seen">The first measure of this process; null where there is none.</param>
    /// <param name="oldest">The oldest slot of each step, the finest step first.</param>
    public static DateTimeOffset? Of(DateTimeOffset? seen, IEnumerable<(MeasureStep Step, DateTimeOffset Start)> oldest)
    {
        ArgumentNullException.ThrowIfNull(oldest);
        var first = seen;
        foreach (var (step, start) in oldest)
        {
            if (first is not { } known || start + step.Slot <= known)
            {
                first = start;
            }
        }

        return first;
    }
}
