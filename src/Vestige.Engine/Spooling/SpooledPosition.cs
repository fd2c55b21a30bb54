using Vestige.Core.Positions;

namespace Vestige.Engine.Spooling;

/// <summary>What the spool knows of one position.</summary>
/// <param name="Position">The position.</param>
/// <param name="Transactions">How many transactions it had taken up to there.</param>
/// <param name="Changes">The same for changes.</param>
/// <param name="NextCommittedAt">Commit time of the first transaction after it; null when there is none.</param>
public sealed record SpooledPosition(LogPosition Position, long Transactions, long Changes, DateTimeOffset? NextCommittedAt);
