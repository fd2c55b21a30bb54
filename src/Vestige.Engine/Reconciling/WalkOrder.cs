using Vestige.Core.Crossings;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Reconciling;

/// <summary>Which table of a crossing is compared next when it is compared all the time.</summary>
internal static class WalkOrder
{
    private static readonly TimeSpan AfterFailure = TimeSpan.FromMinutes(1);

    /// <summary>
    /// The first of those that are due: tables of which rows were repaired, then those never proved equal, then those that changed since
    /// they were proved, the longest proved first. One whose proof is two periods old waits for none that only changed, so that a
    /// quiet table is not left out where the pace is too low for all. Null when none is due.
    /// </summary>
    /// <param name="tables">The tables that may be compared now.</param>
    /// <param name="rule">The period.</param>
    /// <param name="now">The time.</param>
    public static TableName? Next(IEnumerable<WalkedTable> tables, ReconcileRule rule, DateTimeOffset now)
    {
        ArgumentNullException.ThrowIfNull(rule);
        var period = TimeSpan.FromSeconds(rule.Every ?? 0);
        return tables
            .Where(table => IsDue(table, period, now))
            .OrderByDescending(table => table.Verdict?.Repaired == true)
            .ThenByDescending(table => table.Verdict?.Proved is null)
            .ThenByDescending(table => IsOverdue(table, period, now))
            .ThenByDescending(table => !IsOverdue(table, period, now) && table.ChangedAt > table.Verdict?.Proved?.At)
            .ThenBy(table => table.Verdict?.Proved?.At)
            .FirstOrDefault()
            ?.Table;
    }

    private static bool IsDue(WalkedTable table, TimeSpan period, DateTimeOffset now)
    {
        if (now - table.Tried < AfterFailure)
        {
            return false;
        }

        return table.Verdict switch
        {
            { Repaired: true } or null => true,
            { FoundAt: { } found } => now - found >= period,
            { Proved: { } proof } => now - proof.At >= period,
            _ => true,
        };
    }

    private static bool IsOverdue(WalkedTable table, TimeSpan period, DateTimeOffset now) =>
        table.Verdict?.Proved is { } proof && now - proof.At >= 2 * period;
}
