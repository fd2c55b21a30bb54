namespace Vestige.Engine.Workers;

/// <summary>How a worker waits for the next batch: not longer than its target may be left without a question.</summary>
internal sealed class IdleWait(TimeProvider clock)
{
    private static readonly TimeSpan LookForEndEvery = TimeSpan.FromSeconds(1);
    private Task? idle;
    private Task? ends;

    /// <summary>Whether the target has not been asked anything for long.</summary>
    public bool IsOver => idle is { IsCompleted: true };

    /// <summary>It was asked just now.</summary>
    public void Begin() => idle = null;

    /// <summary>Waits for the batch or for anything that wakes; true when the batch is there.</summary>
    /// <param name="batch">The batch.</param>
    /// <param name="woken">What else ends the wait.</param>
    /// <param name="lookForEnd">
    /// Whether the crossing is to stop at a mark: that the log has passed one may be seen in nothing that comes of it.
    /// </param>
    public async Task<bool> ForAsync(Task batch, IReadOnlyList<Task> woken, bool lookForEnd)
    {
        idle ??= Task.Delay(WorkerRests.ProveEvery, clock, CancellationToken.None);
        ends =
            !lookForEnd ? null
            : ends is { IsCompleted: false } ? ends
            : Task.Delay(LookForEndEvery, clock, CancellationToken.None);
        await Task.WhenAny([batch, .. woken, idle, ends ?? idle]);
        return batch.IsCompleted;
    }
}
