using Vestige.Core.Positions;

namespace Vestige.Engine.Ports;

/// <summary>A committed transaction of a source, or a part of one too large to be held whole, as a sink takes it.</summary>
/// <param name="Log">The log of <paramref name="Position"/>: a branch's number means nothing outside its spool.</param>
/// <param name="Position">The position of its commit: the same for all its parts.</param>
/// <param name="CommittedAt">By the source's clock.</param>
/// <param name="Origin">Whence the source itself got it by replication, in the source's words; null when it was made there.</param>
/// <param name="First">The first part.</param>
/// <param name="Last">The last part; a transaction in one part is both.</param>
/// <param name="Changes">Those that cross, in the order of the log; may be empty.</param>
public sealed record OrderedTransaction(
    LogIdentity Log,
    LogPosition Position,
    DateTimeOffset CommittedAt,
    string? Origin,
    bool First,
    bool Last,
    IReadOnlyList<OrderedChange> Changes
);
