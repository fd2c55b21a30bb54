using Vestige.Core.Schemas;

namespace Vestige.Connectors.PostgreSql.Targets;

/// <summary>
/// The statements that make the rows of a table those of another. Rows are compared as the server stores them (PostgreSQL manual, Composite
/// Type Comparison, <c>*&lt;&gt;</c>): values that are equal and not the same, as 1.0 and 1.00, count as different. The cast keeps it from
/// comparing column by column.
/// </summary>
internal sealed class RowReplacement(TableSchema table, TableSchema beside)
{
    private readonly string name = Quote.Name(table.Name);
    private readonly string from = Quote.Name(beside.Name);
    private readonly string columns = Quote.Names(table.Columns.Select(column => column.Name));

    public string DeleteAll => $"DELETE FROM {name}";

    public string InsertAll => $"INSERT INTO {name} ({columns}) OVERRIDING SYSTEM VALUE SELECT {columns} FROM {from}";

    /// <summary>Rows whose key is not beside, in just the same bytes.</summary>
    public string DeleteGone =>
        $"DELETE FROM {name} AS t WHERE NOT EXISTS (SELECT FROM {from} AS s WHERE {SameKey} AND {Row("t", Key)} *= {Row("s", Key)})";

    public string DeleteOther => $"DELETE FROM {name} AS t USING {from} AS s WHERE {SameKey} AND {Differs}";

    public string UpdateOther =>
        Others.Count == 0
            ? $"SELECT FROM {from} WHERE false"
            : $"UPDATE {name} AS t SET {string.Join(", ", Others.Select(column => $"{column} = s.{column}"))} FROM {from} AS s "
                + $"WHERE {SameKey} AND {Differs}";

    public string InsertMissing => $"{InsertAll} AS s WHERE NOT EXISTS (SELECT FROM {name} AS t WHERE {SameKey})";

    private IReadOnlyList<string> Key => [.. table.KeyOrdinals.Select(column => Quote.Name(table.Columns[column].Name))];

    private IReadOnlyList<string> Others =>
        [.. Enumerable.Range(0, table.Columns.Count).Except(table.KeyOrdinals).Select(column => Quote.Name(table.Columns[column].Name))];

    private string SameKey => string.Join(" AND ", Key.Select(column => $"t.{column} = s.{column}"));

    private string Differs => Others.Count == 0 ? "false" : $"{Row("t", Others)} *<> {Row("s", Others)}";

    private static string Row(string of, IReadOnlyList<string> columns) =>
        $"ROW({string.Join(", ", columns.Select(column => $"{of}.{column}"))})::record";
}
