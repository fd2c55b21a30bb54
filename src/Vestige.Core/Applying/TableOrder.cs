using Vestige.Core.Schemas;

namespace Vestige.Core.Applying;

/// <summary>The order in which rows of several tables are written under foreign keys.</summary>
/// <param name="ParentsFirst">Every table once; a referenced table before those that refer to it, cycles apart.</param>
/// <param name="InCycles">Tables that refer to each other in a circle, or to themselves; their references must be deferred.</param>
public sealed record TableOrder(IReadOnlyList<TableName> ParentsFirst, IReadOnlyList<TableName> InCycles)
{
    /// <summary>Orders by the foreign keys among the given tables; references to others do not matter. Stable by name.</summary>
    public static TableOrder Of(IEnumerable<TableSchema> tables)
    {
        var all = tables.OrderBy(table => table.Name).ToList();
        var names = all.Select(table => table.Name).ToHashSet();
        var parents = all.ToDictionary(
            table => table.Name,
            table => table.ForeignKeys.Select(key => key.References).Where(names.Contains).ToHashSet()
        );
        var cycles = all.Select(table => table.Name).Where(name => Reaches(parents, name)).ToList();
        var inCycle = cycles.ToHashSet();
        var ordered = new List<TableName>();
        var left = all.Select(table => table.Name).ToList();
        while (left.Count > 0)
        {
            var next = left.FindIndex(name =>
                parents[name].All(parent => ordered.Contains(parent) || (inCycle.Contains(name) && inCycle.Contains(parent)))
            );
            next = Math.Max(next, 0);
            ordered.Add(left[next]);
            left.RemoveAt(next);
        }

        return new TableOrder(ordered, cycles);
    }

    private static bool Reaches(Dictionary<TableName, HashSet<TableName>> parents, TableName start)
    {
        var seen = new HashSet<TableName>();
        var open = new Stack<TableName>(parents[start]);
        while (open.TryPop(out var name))
        {
            if (name == start)
            {
                return true;
            }

            if (seen.Add(name))
            {
                foreach (var parent in parents[name])
                {
                    open.Push(parent);
                }
            }
        }

        return false;
    }
}
