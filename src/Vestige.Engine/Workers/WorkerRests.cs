using Vestige.Core.Lag;
using Vestige.Engine.Concurrency;
using Vestige.Engine.Following;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Workers;

/// <summary>What a worker does while it applies nothing: it waits out its rests, and stays in touch with its target.</summary>
internal sealed class WorkerRests(RateLimiter limiter, CrossingMeter meter, Steering steering, TimeProvider clock)
{
    /// <summary>How often a target is asked that has nothing to apply.</summary>
    public static readonly TimeSpan ProveEvery = TimeSpan.FromSeconds(10);

    /// <summary>A load is not begun in a window of rest.</summary>
    public async Task BeforeLoadAsync(IProgressSession session, CancellationToken cancellation)
    {
        while (limiter.Wait() is var rest && rest > TimeSpan.Zero)
        {
            await ForAsync(session, rest, cancellation, steering.Changed.Next);
            steering.Soon.ThrowIfCancellationRequested();
        }
    }

    /// <summary>Applies nothing for a while, and stays in touch with the target meanwhile.</summary>
    public async Task ForAsync(IProgressSession session, TimeSpan rest, CancellationToken cancellation, params Task[] woken)
    {
        var until = clock.GetUtcNow() + rest;
        meter.RestBegins(OwnRest.Rule, clock.GetUtcNow());
        try
        {
            // What is left is measured once: by a second look it may be over, and a delay of minus one millisecond never ends.
            while (until - clock.GetUtcNow() is var left && left > TimeSpan.Zero && !Array.Exists(woken, task => task.IsCompleted))
            {
                await Pause.ForAsync(left < ProveEvery ? left : ProveEvery, clock, cancellation, woken);
                cancellation.ThrowIfCancellationRequested();
                if (left >= ProveEvery)
                {
                    await ProveAsync(session, cancellation);
                }
            }
        }
        finally
        {
            meter.RestEnds(OwnRest.Rule, clock.GetUtcNow());
        }
    }

    /// <summary>
    /// With nothing to apply, a worker would not notice that its target is gone or that another has taken over; so it looks,
    /// and what it then meets ends the turn as it would with rows in hand.
    /// </summary>
    public static Task ProveAsync(IProgressSession session, CancellationToken cancellation) =>
        session.SaveAsync(ProgressUpdate.None, cancellation);
}
