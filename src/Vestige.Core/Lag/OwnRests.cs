namespace Vestige.Core.Lag;

/// <summary>
/// When a crossing rested on its own account, so that this is told apart from the delay of a hop. Not safe for several threads.
/// <para>
/// Kept is the rested time as a function of the moment, at the moments where resting began or ended: between two of them it grows by
/// the time that passes, or not at all. Several kinds of rest may overlap; what they share counts once. Where there are too many
/// moments, every second of the older half is dropped and a line drawn between those that stay: the function never falls and never
/// grows faster than the time, so what is told of a span is wrong by less than what lies between two neighbours.
/// </para>
/// </summary>
public sealed class OwnRests
{
    private const int MostKept = 4096;
    private readonly HashSet<OwnRest> active = [];
    private readonly List<(DateTimeOffset At, TimeSpan Rested)> moments = [];

    /// <summary>It rests from now on; nothing changes where it does already.</summary>
    /// <param name="kind">Why.</param>
    /// <param name="at">Now; a moment before the last one counts as that.</param>
    public void Begin(OwnRest kind, DateTimeOffset at)
    {
        if (active.Add(kind) && active.Count == 1)
        {
            Note(at, isRested: false);
        }
    }

    /// <summary>It no longer rests for this; nothing changes where it did not.</summary>
    /// <param name="kind">Why it did.</param>
    /// <param name="at">Now; a moment before the last one counts as that.</param>
    public void End(OwnRest kind, DateTimeOffset at)
    {
        if (active.Remove(kind) && active.Count == 0)
        {
            Note(at, isRested: true);
        }
    }

    /// <summary>How long it rested within a span, from zero to the whole of it.</summary>
    public TimeSpan Within(DateTimeOffset from, DateTimeOffset to) => to > from ? Until(to) - Until(from) : TimeSpan.Zero;

    private void Note(DateTimeOffset at, bool isRested)
    {
        var (last, rested) = moments.Count > 0 ? moments[^1] : (at, TimeSpan.Zero);
        var moment = at < last ? last : at;
        moments.Add((moment, isRested ? rested + (moment - last) : rested));
        if (moments.Count > MostKept)
        {
            Thin();
        }
    }

    private void Thin()
    {
        var older = moments.Count / 2;
        List<(DateTimeOffset, TimeSpan)> kept = [.. moments.Take(older).Where((_, i) => i % 2 == 0), .. moments.Skip(older)];
        moments.Clear();
        moments.AddRange(kept);
    }

    private TimeSpan Until(DateTimeOffset moment)
    {
        if (moments.Count == 0 || moment <= moments[0].At)
        {
            return TimeSpan.Zero;
        }

        var (last, rested) = moments[^1];
        if (moment >= last)
        {
            return active.Count > 0 ? rested + (moment - last) : rested;
        }

        // What is asked for is mostly recent.
        var after = moments.Count - 1;
        while (moments[after - 1].At > moment)
        {
            after--;
        }

        var (before, next) = (moments[after - 1], moments[after]);
        return before.Rested + ((next.Rested - before.Rested) * ((moment - before.At) / (next.At - before.At)));
    }
}
