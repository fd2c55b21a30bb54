using Vestige.Core.Schemas;

namespace Vestige.Connectors.PostgreSql.Targets;

/// <summary>
/// The statements that make the rows of a table those of another. The rows that differ are found once, by one join, and kept by where they
/// lie. Rows are compared as the server stores them (PostgreSQL manual, Composite Type Comparison, <c>*&lt;&gt;</c>): values that are equal
/// and not the same, as 1.0 and 1.00, count as different. The casts keep it from comparing column by column.
/// </summary>
internal sealed class RowReplacement(TableSchema table, TableSchema beside)
{
    /// <summary>The table of rows that differ, in the session's temporary schema, dropped with the transaction.</summary>
    private const string Differing = "pg_temp.vestige_differing";
    private readonly string name = Quote.Name(table.Name);
    private readonly string from = Quote.Name(beside.Name);
    private readonly string columns = Quote.Names(table.Columns.Select(column => column.Name));

    public string DeleteAll => $"DELETE FROM {name}";

    public string InsertAll => $"INSERT INTO {name} ({columns}) OVERRIDING SYSTEM VALUE SELECT {columns} FROM {from}";

    /// <summary>
    /// Finds the rows that differ: where each lies in the table, and where beside. A table may have partitions, in which rows lie at the
    /// same place.
    /// </summary>
    public string Find =>
        $"CREATE TEMPORARY TABLE {Differing[8..]} ON COMMIT DROP AS SELECT t.tableoid AS part, t.ctid AS old, s.ctid AS new FROM {name} "
        + $"AS t FULL JOIN {from} AS s ON {SameKey} WHERE t.ctid IS NULL OR s.ctid IS NULL OR {Row("t", All)} *<> {Row("s", All)}; "
        + $"ANALYZE {Differing}";

    /// <summary>How many of them are to be inserted, to become others, and to be deleted.</summary>
    public static string Count =>
        "SELECT count(*) FILTER (WHERE old IS NULL), count(*) FILTER (WHERE old IS NOT NULL AND new IS NOT NULL), "
        + $"count(*) FILTER (WHERE new IS NULL) FROM {Differing}";

    public string DeleteGone => $"{DeleteFound} AND d.new IS NULL";

    /// <summary>Those that are to become others as well.</summary>
    public string DeleteFound => $"DELETE FROM {name} AS t USING {Differing} AS d WHERE t.tableoid = d.part AND t.ctid = d.old";

    public string UpdateOther =>
        $"UPDATE {name} AS t SET {string.Join(", ", Others.Select(column => $"{column} = s.{column}"))} FROM {Differing} AS d JOIN {from} "
        + "AS s ON s.ctid = d.new WHERE t.tableoid = d.part AND t.ctid = d.old";

    public string InsertMissing => $"{InsertAll} AS s WHERE EXISTS (SELECT FROM {Differing} AS d WHERE d.new = s.ctid AND d.old IS NULL)";

    /// <summary>Those instead of deleted ones as well.</summary>
    public string InsertFound =>
        $"{InsertAll} AS s WHERE EXISTS (SELECT FROM {Differing} AS d WHERE d.new = s.ctid)";

    private IReadOnlyList<string> All => [.. table.Columns.Select(column => Quote.Name(column.Name))];

    /// <summary>The columns outside the key; all where there is none, since a key may have become other without being another.</summary>
    private IReadOnlyList<string> Others =>
        table.KeyOrdinals.Count == table.Columns.Count
            ? All
            : [.. Enumerable.Range(0, table.Columns.Count).Except(table.KeyOrdinals).Select(column => All[column])];

    private string SameKey => string.Join(" AND ", table.KeyOrdinals.Select(column => $"t.{All[column]} = s.{All[column]}"));

    private static string Row(string of, IReadOnlyList<string> columns) =>
        $"ROW({string.Join(", ", columns.Select(column => $"{of}.{column}"))})::record";
}
