namespace Vestige.Engine.Spooling;

/// <summary>Wakes everybody who waits. Take the task before looking, then wait on it, and no pulse is missed.</summary>
public sealed class AsyncSignal
{
    private volatile TaskCompletionSource source = New();

    public Task Next => source.Task;

    public void Beat() => Interlocked.Exchange(ref source, New()).TrySetResult();

    /// <summary>
    /// Who waits must not run within the one who beats. Where there is a synchronization context (only in simulations), the
    /// continuations go through it anyway, and a detour through the thread pool would make their order a matter of chance.
    /// </summary>
    private static TaskCompletionSource New() =>
        new(SynchronizationContext.Current is null ? TaskCreationOptions.RunContinuationsAsynchronously : TaskCreationOptions.None);
}
