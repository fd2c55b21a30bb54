using Vestige.Core.Schemas;
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

    /// <summary>
    /// Keeps some changes, each in the place of one of the same <see cref="WaitingChange.Id"/>, drops others, and records what was decided
    /// of them.
    /// </summary>
    Task WriteAsync(
        string crossing,
        IReadOnlyList<WaitingChange> kept,
        IReadOnlyList<string> dropped,
        IReadOnlyList<DecidedChange> decided,
        CancellationToken cancellation
    );

    /// <summary>What was decided of a crossing's changes, the latest first; of one table of its source where that is given.</summary>
    Task<IReadOnlyList<DecidedChange>> DecidedAsync(string crossing, TableName? table, int most, CancellationToken cancellation);

    /// <summary>Drops everything of a crossing.</summary>
    Task ForgetAsync(string crossing, CancellationToken cancellation);
}
