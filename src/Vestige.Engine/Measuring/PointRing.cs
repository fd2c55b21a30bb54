namespace Vestige.Engine.Measuring;

/// <summary>The last so many points, reached from the newest without passing over the others. Not safe for several threads.</summary>
internal sealed class PointRing(int most)
{
    private readonly List<MeasurePoint> points = [];
    private int first;

    public int Count => points.Count;

    /// <summary>The oldest; null where there is none.</summary>
    public MeasurePoint? First => points.Count > 0 ? points[first] : null;

    public void Add(MeasurePoint point)
    {
        if (points.Count < most)
        {
            points.Add(point);
        }
        else
        {
            points[first] = point;
            first = (first + 1) % most;
        }
    }

    /// <summary>The newest ones, oldest first.</summary>
    public List<MeasurePoint> Last(int count)
    {
        var taken = Math.Min(count, points.Count);
        var last = new List<MeasurePoint>(taken);
        for (var i = points.Count - taken; i < points.Count; i++)
        {
            last.Add(points[(first + i) % points.Count]);
        }

        return last;
    }

    /// <summary>Those after a moment, oldest first; their times ascend.</summary>
    public List<MeasurePoint> Since(DateTimeOffset moment)
    {
        var count = 0;
        while (count < points.Count && points[(first + points.Count - 1 - count) % points.Count].At > moment)
        {
            count++;
        }

        return Last(count);
    }
}
