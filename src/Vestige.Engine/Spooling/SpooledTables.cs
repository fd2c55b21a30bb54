using Vestige.Core.Positions;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Spooling;

/// <summary>The tables whose changes are read into a spool, and since when all of them are held. Safe for several threads.</summary>
internal sealed class SpooledTables
{
    private readonly Lock gate = new();
    private Dictionary<TableName, SpooledTable> tables = [];

    public HashSet<TableName> Names
    {
        get
        {
            lock (gate)
            {
                return [.. tables.Keys];
            }
        }
    }

    public IReadOnlyList<SpooledTable> All
    {
        get
        {
            lock (gate)
            {
                return [.. tables.Values];
            }
        }
    }

    /// <summary>Null for a table that is not read.</summary>
    public SpooledTable? Find(TableName table)
    {
        lock (gate)
        {
            return tables.GetValueOrDefault(table);
        }
    }

    public void Replace(IEnumerable<SpooledTable> found)
    {
        lock (gate)
        {
            tables = found.ToDictionary(table => table.Name);
        }
    }

    /// <summary>These tables, with what is known of those that were read before.</summary>
    public IReadOnlyList<SpooledTable> With(IEnumerable<TableName> chosen)
    {
        lock (gate)
        {
            return [.. chosen.Select(name => tables.GetValueOrDefault(name) ?? new SpooledTable(name))];
        }
    }

    /// <summary>All of them, where those named are held whole after a position of which that was not known.</summary>
    public IReadOnlyList<SpooledTable> With(IReadOnlySet<TableName> whole, LogPosition after)
    {
        lock (gate)
        {
            return
            [
                .. tables.Values.Select(table =>
                    table.WholeAfter is null && whole.Contains(table.Name) ? table with { WholeAfter = after } : table
                ),
            ];
        }
    }
}
