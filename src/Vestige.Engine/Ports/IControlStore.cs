using Vestige.Engine.Events;

namespace Vestige.Engine.Ports;

/// <summary>Where definitions and what is asked of crossings are kept. Every call is durable when it returns.</summary>
public interface IControlStore
{
    Task<IReadOnlyList<StoredCrossing>> LoadAsync(CancellationToken cancellation);

    Task SaveAsync(StoredCrossing crossing, CancellationToken cancellation);

    Task DeleteAsync(string crossing, CancellationToken cancellation);

    /// <summary>
    /// A number higher than <paramref name="after"/> and than any returned before for this crossing, whatever crashed in between.
    /// </summary>
    Task<long> NextTermAsync(string crossing, long after, CancellationToken cancellation);

    Task AppendAsync(CrossingEvent happened, CancellationToken cancellation);
}
