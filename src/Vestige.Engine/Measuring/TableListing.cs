using Vestige.Core.Schemas;
using Vestige.Engine.Ports;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Measuring;

/// <summary>
/// The tables of one crossing, and what its definition says of each. Of thousands of tables that follow, none changes from one look to the
/// next: what does not change is worked out once. Safe for several threads.
/// </summary>
internal sealed class TableListing
{
    private volatile Listing? last;

    /// <summary>Those that the definition takes, in the order of their names.</summary>
    /// <param name="tables">What the target knows of tables.</param>
    /// <param name="ways">What the definition says.</param>
    /// <param name="target">Names its tables; null where it cannot be opened: they are listed under the source's names then.</param>
    public IReadOnlyList<ListedTable> Of(IReadOnlyList<TableProgress> tables, TableOptions ways, TargetSystem? target)
    {
        var (known, isNamed) = (last, target is not null);
        if (
            known is null
            || !ReferenceEquals(known.Of, tables)
            || !ReferenceEquals(known.Ways, ways)
            || known.IsNamed != isNamed
        )
        {
            last = known = new Listing(tables, ways, isNamed, [.. Listed(tables, ways, target).OrderBy(table => table.Name)]);
        }

        return known.Tables;
    }

    private static IEnumerable<ListedTable> Listed(IReadOnlyList<TableProgress> tables, TableOptions ways, TargetSystem? target) =>
        tables
            .Where(table => ways.Takes(table.Table))
            .Select(table => new ListedTable(table.Table, table, IntoOf(table.Table, ways, target)));

    /// <summary>The target's tables that one goes into, or its own name where the target cannot be asked.</summary>
    public static IReadOnlyList<TableName> IntoOf(TableName table, TableOptions ways, TargetSystem? target) =>
        target is null ? [table] : ways.Into(table, target);

    private sealed record Listing(
        IReadOnlyList<TableProgress> Of,
        TableOptions Ways,
        bool IsNamed,
        IReadOnlyList<ListedTable> Tables
    );
}
