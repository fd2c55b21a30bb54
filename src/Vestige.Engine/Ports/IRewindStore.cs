using Vestige.Engine.Rewinding;

namespace Vestige.Engine.Ports;

/// <summary>
/// Where it is kept what is to be applied again, one request for each crossing. Every call is durable when it returns. Safe for several
/// threads.
/// </summary>
public interface IRewindStore
{
    /// <summary>Null when there is none.</summary>
    Task<Rewind?> FindAsync(string crossing, CancellationToken cancellation);

    /// <summary>Keeps it instead of an earlier one.</summary>
    Task SaveAsync(Rewind rewind, CancellationToken cancellation);

    Task DeleteAsync(string crossing, CancellationToken cancellation);
}
