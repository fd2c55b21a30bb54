using Microsoft.Extensions.Logging;
using Vestige.Core.Crossings;
using Vestige.Engine.Concurrency;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;

namespace Vestige.Engine.Workers;

/// <summary>
/// What a worker does when something fails: waits for what time may mend, and faults at what a person has to. Both are told.
/// </summary>
internal sealed class WorkerTroubles(WorkerContext context, Steering steering, Random random)
{
    private readonly string crossing = context.Crossing;
    private readonly WorkerState state = context.State;
    private readonly TimeProvider clock = context.Clock;

    /// <summary>Whether another try may succeed though nobody does anything.</summary>
    public static bool MayPass(Exception exception) =>
        exception switch
        {
            FencedException => true,
            PortException port => port.Transient,
            IOException or TimeoutException => true,
            System.Data.Common.DbException { IsTransient: true } => true, // A connection that broke while a driver was tidying up.
            _ => false,
        };

    /// <summary>Waits before another try, longer after each. False when it is asked to rest meanwhile.</summary>
    public async Task<bool> WaitAsync(int attempt, Exception exception)
    {
        var (asked, pause) = (steering.Retry.Next, RetryPause.Before(attempt, random));
        var isNew = state.Waits(exception.Message, (exception as PortException)?.Remedy, clock.GetUtcNow(), pause);
        context.Logger.LogWarning(
            FailureLog.StackOf(exception),
            "Crossing {Crossing} waits, attempt {Attempt}: {Reason}",
            crossing,
            attempt,
            exception.Message
        );
        if (isNew)
        {
            await context.Events.OfCrossingAsync(crossing, EventKind.Warning, $"Waiting: {exception.Message}");
        }

        using var ending = CancellationTokenSource.CreateLinkedTokenSource(steering.Now, steering.Soon);
        await Pause.ForAsync(pause, clock, ending.Token, asked);
        return !ending.IsCancellationRequested && steering.Request is null or { Mode: StopMode.Drain };
    }

    /// <summary>The crossing is faulted.</summary>
    public async Task FaultAsync(Exception exception)
    {
        var refused = exception as RowRefusedException;
        state.Faulted(
            new CrossingFault(
                exception.Message,
                (exception as PortException)?.Remedy,
                clock.GetUtcNow(),
                exception is PlaceLostException,
                refused?.Table.ToString(),
                refused?.Key
            )
        );
        context.Logger.LogError(FailureLog.StackOf(exception), "Crossing {Crossing} is faulted: {Reason}", crossing, exception.Message);
        await context.Events.OfCrossingAsync(crossing, EventKind.Fault, $"Faulted: {exception.Message}");
    }
}
