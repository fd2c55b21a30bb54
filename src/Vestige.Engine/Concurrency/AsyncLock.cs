namespace Vestige.Engine.Concurrency;

/// <summary>
/// Lets one in at a time, in the order of arrival. Unlike the framework's semaphore it resumes waiters
/// through the synchronization context where there is one, so that a simulated run is determined by its seed.
/// </summary>
internal sealed class AsyncLock
{
    private readonly Lock gate = new();
    private readonly LinkedList<TaskCompletionSource> waiting = [];
    private bool taken;

    /// <summary>Waits for one's turn; dispose what is returned to end it.</summary>
    public async Task<IDisposable> EnterAsync(CancellationToken cancellation)
    {
        TaskCompletionSource? mine = null;
        lock (gate)
        {
            if (taken)
            {
                mine = new TaskCompletionSource(
                    SynchronizationContext.Current is null ? TaskCreationOptions.RunContinuationsAsynchronously : TaskCreationOptions.None
                );
                waiting.AddLast(mine);
            }

            taken = true;
        }

        if (mine is not null)
        {
            await using var giveUp = cancellation.Register(() => GiveUp(mine, cancellation));
            await mine.Task;
        }

        return new Entered(this);
    }

    private void GiveUp(TaskCompletionSource mine, CancellationToken cancellation)
    {
        bool waited;
        lock (gate)
        {
            waited = waiting.Remove(mine);
        }

        if (waited)
        {
            mine.TrySetCanceled(cancellation);
        }
    }

    private void Leave()
    {
        TaskCompletionSource? next;
        lock (gate)
        {
            next = waiting.First?.Value;
            if (next is null)
            {
                taken = false;
                return;
            }

            waiting.RemoveFirst();
        }

        next.TrySetResult();
    }

    private sealed class Entered(AsyncLock gate) : IDisposable
    {
        public void Dispose() => gate.Leave();
    }
}
