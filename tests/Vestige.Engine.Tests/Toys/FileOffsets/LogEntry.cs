using Vestige.Core.Changes;

namespace Vestige.Engine.Tests.Toys.FileOffsets;

/// <summary>A transaction in the log of one server.</summary>
/// <param name="Offset">Where it ends, the number of the file in the upper half.</param>
/// <param name="Had">All transactions that the server has after it.</param>
/// <param name="CommittedAt">When it was committed.</param>
/// <param name="Changes">What it did, by the number of the table.</param>
public sealed record LogEntry(ulong Offset, string Had, DateTimeOffset CommittedAt, IReadOnlyList<RowChange> Changes);
