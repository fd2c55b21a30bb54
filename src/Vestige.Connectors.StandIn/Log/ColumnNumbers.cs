using Vestige.Core.Schemas;

namespace Vestige.Connectors.StandIn.Log;

/// <summary>
/// Gives the columns of a table numbers, which SQLite does not: a column that was renamed keeps its own. One statement adds, drops or
/// renames one column (SQLite, ALTER TABLE), so a name that went and one that came at the same place are one column.
/// </summary>
internal static class ColumnNumbers
{
    /// <summary>A table with numbers from 1 on, where it has none.</summary>
    public static TableSchema First(TableSchema table) =>
        table.Columns.All(column => column.Id is not null)
            ? table
            : table with
            {
                Columns = [.. table.Columns.Select((column, ordinal) => column with { Id = ordinal + 1 })],
            };

    /// <summary>The table after a statement, with the numbers of before it.</summary>
    /// <param name="before">The table before.</param>
    /// <param name="after">The table after it.</param>
    /// <param name="last">The highest number that the table ever had.</param>
    public static TableSchema Keep(TableSchema before, TableSchema after, int last)
    {
        var gone = before.Columns.Where(column => after.IndexOf(column.Name) < 0).ToList();
        var came = after.Columns.Where(column => before.IndexOf(column.Name) < 0).ToList();
        var renamed = gone is [var old] && came is [var present] && before.IndexOf(old.Name) == after.IndexOf(present.Name) ? old.Id : null;
        return after with
        {
            Columns =
            [
                .. after.Columns.Select(column =>
                    column with
                    {
                        Id = before.IndexOf(column.Name) is >= 0 and var ordinal ? before.Columns[ordinal].Id : renamed ?? ++last,
                    }
                ),
            ],
        };
    }
}
