namespace Vestige.Engine.Spooling;

/// <summary>Wakes everybody who waits. Take the task before looking, then wait on it, and no pulse is missed.</summary>
public sealed class Pulse
{
    private volatile TaskCompletionSource source = New();

    public Task Next => source.Task;

    public void Beat() => Interlocked.Exchange(ref source, New()).TrySetResult();

    private static TaskCompletionSource New() => new(TaskCreationOptions.RunContinuationsAsynchronously);
}
