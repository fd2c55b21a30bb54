using Vestige.Connectors.StandIn.Native;
using Vestige.Core.Schemas;

namespace Vestige.Connectors.StandIn.Targets;

/// <summary>The statements of one table of a stand-in, made once.</summary>
internal sealed class TableStatements
{
    private readonly TableSchema table;
    private readonly string key;

    public TableStatements(TableSchema table)
    {
        this.table = table;
        key = string.Join(" AND ", table.KeyOrdinals.Select(i => $"{Quote.Name(table.Columns[i].Name)} IS ?"));
        var name = Quote.Name(table.Name.Name);
        Insert =
            $"INSERT INTO {name} ({Quote.Names(table.Columns.Select(column => column.Name))}) VALUES "
            + $"({string.Join(", ", table.Columns.Select(_ => "?"))})";
        Delete = $"DELETE FROM {name} WHERE {key}";
        Empty = $"DELETE FROM {name}";
        Others = [.. Enumerable.Range(0, table.Columns.Count).Where(i => table.Columns[i].KeyOrdinal == 0)];
        Update = UpdateOf(Others);
        UniqueColumns = [.. table.UniqueKeys.SelectMany(unique => unique.Columns).Select(table.IndexOf).Distinct()];
    }

    public string Insert { get; }

    public string Update { get; }

    public string Delete { get; }

    public string Empty { get; }

    /// <summary>Indexes of the columns outside the key.</summary>
    public IReadOnlyList<int> Others { get; }

    /// <summary>Indexes of the columns of unique keys besides the primary key.</summary>
    public IReadOnlyList<int> UniqueColumns { get; }

    /// <summary>An update of some columns only.</summary>
    public string UpdateOf(IReadOnlyList<int> columns)
    {
        var set = string.Join(", ", columns.Select(i => $"{Quote.Name(table.Columns[i].Name)} = ?"));
        return $"UPDATE {Quote.Name(table.Name.Name)} SET {set} WHERE {key}";
    }

    /// <summary>
    /// The statement that creates the table. References are kept to tables in <paramref name="present"/> only, and without
    /// their actions: what those do at the source comes by the log.
    /// </summary>
    public static string Create(TableSchema table, IReadOnlySet<string> present)
    {
        var lines = new List<string>();
        var single = table.KeyOrdinals.Count == 1 ? table.KeyOrdinals[0] : -1;
        for (var i = 0; i < table.Columns.Count; i++)
        {
            var column = table.Columns[i];
            var type = column.Type.Length > 0 ? " " + column.Type : "";
            lines.Add($"{Quote.Name(column.Name)}{type}{(column.Nullable ? "" : " NOT NULL")}{(i == single ? " PRIMARY KEY" : "")}");
        }

        if (table.KeyOrdinals.Count > 1)
        {
            lines.Add($"PRIMARY KEY ({Quote.Names(table.KeyOrdinals.Select(i => table.Columns[i].Name))})");
        }

        lines.AddRange(table.UniqueKeys.Select(unique => $"UNIQUE ({Quote.Names(unique.Columns)})"));
        lines.AddRange(
            table
                .ForeignKeys.Where(reference => present.Contains(reference.References.Name))
                .Select(reference =>
                    $"FOREIGN KEY ({Quote.Names(reference.Columns)}) REFERENCES {Quote.Name(reference.References.Name)} "
                    + $"({Quote.Names(reference.ReferencedColumns)})"
                )
        );
        return $"CREATE TABLE {Quote.Name(table.Name.Name)} (\n  {string.Join(",\n  ", lines)}\n)";
    }
}
