using Vestige.Core.Schemas;

namespace Vestige.Core.Routes;

/// <summary>
/// Crossings may not bring the rows of a table back to that table, over whatever tables and databases between: each change would go
/// round for ever. Two crossings that carry different tables both ways are no loop.
/// </summary>
public static class LoopRule
{
    /// <summary>
    /// The crossings that lead a table's rows back to it, in their order, beginning with the new one; null when there is no loop.
    /// </summary>
    /// <param name="added">The crossing that is to be saved or started.</param>
    /// <param name="tables">The source's tables that it takes.</param>
    /// <param name="others">All other crossings.</param>
    public static (TableName Table, IReadOnlyList<string> Crossings)? Find(
        CarriedRows added,
        IEnumerable<TableName> tables,
        IReadOnlyList<CarriedRows> others
    )
    {
        ArgumentNullException.ThrowIfNull(added);
        ArgumentNullException.ThrowIfNull(tables);
        ArgumentNullException.ThrowIfNull(others);
        foreach (var table in tables)
        {
            if (WayBack(added, table, others) is { } way)
            {
                return (table, way);
            }
        }

        return null;
    }

    private static List<string>? WayBack(CarriedRows added, TableName table, IReadOnlyList<CarriedRows> others)
    {
        var begin = (added.Source, table);
        var open = new Queue<((string Database, TableName Table) Place, List<string> Way)>();
        var seen = new HashSet<(string, TableName)>();
        Go(added, table, []);
        while (open.TryDequeue(out var next))
        {
            if (next.Place == begin)
            {
                return next.Way;
            }

            foreach (var other in others.Where(other => other.Source == next.Place.Database))
            {
                Go(other, next.Place.Table, next.Way);
            }
        }

        return null;

        void Go(CarriedRows carried, TableName from, List<string> way)
        {
            foreach (var into in carried.TargetsOf(from).Where(into => seen.Add((carried.Target, into))))
            {
                open.Enqueue(((carried.Target, into), [.. way, carried.Crossing]));
            }
        }
    }
}
