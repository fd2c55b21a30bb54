namespace Vestige.Engine.Measuring;

/// <summary>The rate of a growing counter over a short sliding window. Not safe for several threads.</summary>
public sealed class RateMeter(TimeSpan window)
{
    private readonly Queue<(DateTimeOffset At, double Value)> samples = [];

    /// <summary>Units a second over the window; 0 until two samples were taken.</summary>
    public double PerSecond { get; private set; }

    public void Sample(DateTimeOffset at, double value)
    {
        samples.Enqueue((at, value));
        while (samples.Count > 2 && at - samples.Peek().At > window)
        {
            samples.Dequeue();
        }

        var first = samples.Peek();
        var seconds = (at - first.At).TotalSeconds;
        PerSecond = seconds > 0 ? (value - first.Value) / seconds : 0;
    }
}
