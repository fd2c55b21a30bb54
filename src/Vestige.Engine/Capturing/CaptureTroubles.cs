using Microsoft.Extensions.Logging;
using Vestige.Engine.Concurrency;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Capturing;

/// <summary>
/// What is done and told when a log cannot be read: a pause before the next try, or the end where the place in it is lost.
/// </summary>
/// <param name="connection">The source's connection.</param>
/// <param name="state">What the status shows.</param>
/// <param name="turned">Beats when reading stops or starts to work.</param>
/// <param name="events">Where it is told.</param>
/// <param name="clock">The clock of pauses.</param>
/// <param name="random">Spreads the pauses.</param>
/// <param name="logger">The log of the process.</param>
internal sealed class CaptureTroubles(
    string connection,
    CaptureState state,
    AsyncSignal turned,
    EventLog events,
    TimeProvider clock,
    Random random,
    ILogger logger
)
{
    private readonly AsyncSignal retry = new();

    /// <summary>Ends the pause before the next attempt.</summary>
    public void RetryNow() => retry.Beat();

    /// <summary>
    /// Said when something was read and is durable: to have opened the log says nothing about the spool's disk, and would be
    /// taken back a moment later.
    /// </summary>
    public async Task OverAsync()
    {
        if (state.Works())
        {
            turned.Beat();
            await events.OfConnectionAsync(connection, EventKind.Note, "Reading the log again.");
        }
    }

    /// <summary>Waits before another try, longer after each; returns early when cancelled, and when it is asked to retry now.</summary>
    public async Task WaitAsync(int attempt, Exception exception, CancellationToken cancellation)
    {
        var pause = RetryPause.Before(attempt, random);
        var asked = retry.Next;
        var isNew = Wait(exception.Message, clock.GetUtcNow() + pause);
        logger.LogWarning(
            FailureLog.StackOf(exception),
            "Capture of {Connection} failed, attempt {Attempt}: {Reason}",
            connection,
            attempt,
            exception.Message
        );
        if (isNew)
        {
            await events.OfConnectionAsync(connection, EventKind.Warning, $"The log cannot be read: {exception.Message}");
        }

        await Pause.ForAsync(pause, clock, cancellation, asked); // Cancelled at the end; the caller looks at its token.
    }

    /// <summary>Nothing is read any more until the crossings of the source are loaded again.</summary>
    public async Task LoseAsync(PlaceLostException exception)
    {
        state.Lost(exception.Message, clock.GetUtcNow());
        turned.Beat();
        await events.OfConnectionAsync(connection, EventKind.Fault, exception.Message);
    }

    /// <summary>Shows why nothing is read; true when that was not shown already.</summary>
    /// <param name="why">Why.</param>
    /// <param name="nextAttempt">When the next attempt is made; null where that is not known.</param>
    public bool Wait(string why, DateTimeOffset? nextAttempt = null)
    {
        var isNew = state.Waits(why, clock.GetUtcNow(), nextAttempt);
        turned.Beat();
        return isNew;
    }
}
