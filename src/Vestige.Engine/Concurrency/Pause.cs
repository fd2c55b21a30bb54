using Vestige.Engine.Spooling;

namespace Vestige.Engine.Concurrency;

/// <summary>
/// Waits that something may cut short. A cancelled delay of the framework's wakes through the thread pool who waits for one of several
/// tasks; this does not, so that a simulated run is determined by its seed.
/// </summary>
internal static class Pause
{
    /// <summary>Waits until a time is over, one of the tasks has ended, or it is given up, which does not throw.</summary>
    public static async Task ForAsync(TimeSpan span, TimeProvider clock, CancellationToken cancellation, params Task[] woken)
    {
        var givenUp = new AsyncSignal();
        var end = givenUp.Next;
        await using var registration = cancellation.Register(givenUp.Beat);
        using var over = new CancellationTokenSource();
        await Task.WhenAny([Task.Delay(span, clock, over.Token), end, .. woken]);
        End(over);
    }

    /// <summary>Nobody waits for the delay any more; its timer goes.</summary>
    private static void End(CancellationTokenSource delay) => delay.Cancel();
}
