namespace Vestige.Engine.Concurrency;

/// <summary>
/// Gives up after a time by the clock that is given, or when its owner does. Unlike the framework's own it goes by that clock, so that a
/// simulated run is determined by its seed.
/// </summary>
internal sealed class Patience : IDisposable
{
    private readonly CancellationTokenSource time;
    private readonly CancellationTokenSource both;

    public Patience(TimeSpan span, TimeProvider clock, CancellationToken cancellation)
    {
        time = new CancellationTokenSource(span, clock);
        both = CancellationTokenSource.CreateLinkedTokenSource(time.Token, cancellation);
    }

    public CancellationToken Token => both.Token;

    public void Dispose()
    {
        both.Dispose();
        time.Dispose();
    }
}
