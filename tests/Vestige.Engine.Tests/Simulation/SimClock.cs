namespace Vestige.Engine.Tests.Simulation;

/// <summary>Time as one process sees it. It moves only when the world moves it.</summary>
public sealed class SimClock(SimWorld world, SimProcess process) : TimeProvider
{
    private readonly List<SimTimer> timers = [];

    public override long TimestampFrequency => TimeSpan.TicksPerSecond;

    public override DateTimeOffset GetUtcNow() => world.Now;

    public override long GetTimestamp() => world.Now.UtcTicks;

    public DateTimeOffset? NextDue => process.Dead || timers.Count == 0 ? null : timers.Min(timer => timer.Due);

    public override ITimer CreateTimer(TimerCallback callback, object? state, TimeSpan dueTime, TimeSpan period)
    {
        var timer = new SimTimer(this, callback, state);
        timer.Change(dueTime, period);
        return timer;
    }

    public void Fire()
    {
        foreach (var timer in timers.Where(timer => timer.Due <= world.Now).ToList())
        {
            timers.Remove(timer);
            process.Post(_ => timer.Call(), null);
        }
    }

    private sealed class SimTimer(SimClock clock, TimerCallback callback, object? state) : ITimer
    {
        private bool disposed;

        public DateTimeOffset Due { get; private set; }

        public void Call()
        {
            if (!disposed)
            {
                callback(state);
            }
        }

        public bool Change(TimeSpan dueTime, TimeSpan period)
        {
            clock.timers.Remove(this);
            if (dueTime != Timeout.InfiniteTimeSpan)
            {
                Due = clock.GetUtcNow() + dueTime;
                clock.timers.Add(this);
            }

            return true;
        }

        public void Dispose()
        {
            disposed = true;
            clock.timers.Remove(this);
        }

        public ValueTask DisposeAsync()
        {
            Dispose();
            return ValueTask.CompletedTask;
        }
    }
}
