using Vestige.Engine.Events;

namespace Vestige.Engine.Ports;

/// <summary>Where runs are kept. Losing one harms nothing. Safe for several threads.</summary>
public interface IRunStore
{
    /// <summary>Keeps a run, instead of one of the same crossing that began at the same time.</summary>
    Task KeepAsync(CrossingRun run, CancellationToken cancellation);

    /// <summary>Says of all runs that go on that the process has ended with them; called once, before any begins.</summary>
    Task CloseAsync(CancellationToken cancellation);
}
