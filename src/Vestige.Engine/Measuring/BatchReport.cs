using Vestige.Core.Lag;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Measuring;

/// <summary>What one committed batch did.</summary>
/// <param name="Changes">Changes captured that it covers, whether they concerned the crossing or not.</param>
/// <param name="Tallies">By table.</param>
/// <param name="Recent">A few of its changes, oldest first.</param>
/// <param name="Delays">By transaction.</param>
/// <param name="Upto">The position after it.</param>
public sealed record BatchReport(
    long Changes,
    IReadOnlyDictionary<TableName, TableTally> Tallies,
    IReadOnlyList<RecentChange> Recent,
    IReadOnlyList<HopDelays> Delays,
    LogPosition Upto = default
);
