using Vestige.Engine.Quarantining;

namespace Vestige.Engine.Ports;

/// <summary>
/// Where changes wait that a target refused. Every call is durable when it returns, all of it or nothing; rows are kept encrypted.
/// Safe for several threads.
/// </summary>
public interface IQuarantineStore
{
    /// <summary>What waits for a crossing, in the order of the log.</summary>
    Task<IReadOnlyList<WaitingChange>> ReadAsync(string crossing, CancellationToken cancellation);

    /// <summary>Keeps some changes, each in the place of one of the same <see cref="WaitingChange.Id"/>, and drops others.</summary>
    Task WriteAsync(string crossing, IReadOnlyList<WaitingChange> kept, IReadOnlyList<string> dropped, CancellationToken cancellation);
}
