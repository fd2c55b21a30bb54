using Microsoft.Extensions.Logging;
using Vestige.Core.Crossings;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Workers;

/// <summary>
/// What a worker does when something fails: waits for what time may mend, and faults at what a person has to. Both are told.
/// </summary>
internal sealed class WorkerTroubles(
    string crossing,
    WorkerState state,
    Steering steering,
    EventLog events,
    TimeProvider clock,
    Random random,
    ILogger logger
)
{
    /// <summary>Whether another try may succeed though nobody does anything.</summary>
    public static bool MayPass(Exception exception) =>
        exception switch
        {
            FencedException => true,
            PortException port => port.Transient,
            IOException or TimeoutException => true,
            System.Data.Common.DbException { IsTransient: true } => true, // A line that broke while a driver was tidying up.
            _ => false,
        };

    /// <summary>Waits before another try, longer after each. False when it is asked to rest meanwhile.</summary>
    public async Task<bool> WaitAsync(int attempt, Exception exception)
    {
        var isNew = state.Waits(exception.Message, (exception as PortException)?.Remedy, clock.GetUtcNow());
        logger.LogWarning(
            FailureLog.StackOf(exception),
            "Crossing {Crossing} waits, attempt {Attempt}: {Reason}",
            crossing,
            attempt,
            exception.Message
        );
        if (isNew)
        {
            await events.OfCrossingAsync(crossing, EventKind.Warning, $"Waiting: {exception.Message}");
        }

        try
        {
            using var ending = CancellationTokenSource.CreateLinkedTokenSource(steering.Now, steering.Soon);
            await Task.Delay(RetryPause.Before(attempt, random), clock, ending.Token);
            return steering.Request is null or { Manner: StopMode.Drain };
        }
        catch (OperationCanceledException)
        {
            return false;
        }
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
        logger.LogError(FailureLog.StackOf(exception), "Crossing {Crossing} is faulted: {Reason}", crossing, exception.Message);
        await events.OfCrossingAsync(crossing, EventKind.Fault, $"Faulted: {exception.Message}");
    }
}
