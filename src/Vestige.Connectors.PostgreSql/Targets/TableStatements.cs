using Vestige.Core.Schemas;

namespace Vestige.Connectors.PostgreSql.Targets;

/// <summary>The statements for one form of a table, by row and by staged rows.</summary>
internal sealed class TableStatements(TableSchema form)
{
    private readonly Dictionary<string, string> made = [];

    public string Name { get; } = Quote.Name(form.Name);

    public string Empty => $"DELETE FROM {Name}";

    /// <summary>Columns of the key and the others, by place.</summary>
    public IReadOnlyList<int> Others { get; } = [.. Enumerable.Range(0, form.Columns.Count).Except(form.KeyOrdinals)];

    /// <summary>Parameters: all columns. A row whose key is there stays.</summary>
    public string Insert =>
        Made("i", () =>
            $"INSERT INTO {Name} ({Columns(All)}) OVERRIDING SYSTEM VALUE VALUES "
            + $"({string.Join(", ", All.Select(i => $"${i + 1}"))}){Unless}"
        );

    /// <summary>Parameters: the set columns, then the key.</summary>
    public string Update(IReadOnlyList<int> set) =>
        Made($"u{string.Join(',', set)}", () =>
            $"UPDATE {Name} SET {string.Join(", ", set.Select((column, i) => $"{Column(column)} = ${i + 1}"))} WHERE "
            + string.Join(" AND ", form.KeyOrdinals.Select((column, i) => KeyComparison.Equal(form.Columns[column], set.Count + i + 1)))
        );

    /// <summary>Parameters: the key.</summary>
    public string Delete =>
        Made("d", () =>
            $"DELETE FROM {Name} WHERE "
            + $"{string.Join(" AND ", form.KeyOrdinals.Select((column, i) => KeyComparison.Equal(form.Columns[column], i + 1)))}"
        );

    public string InsertStaged(string staging, int what) =>
        $"INSERT INTO {Name} ({Columns(All)}) OVERRIDING SYSTEM VALUE SELECT {Columns(All)} FROM {staging} WHERE {Staging.What} = "
        + $"{what}{Unless}";

    /// <summary>Puts staged rows instead of those that have their keys.</summary>
    public string MergeStaged(string staging) =>
        $"INSERT INTO {Name} ({Columns(All)}) OVERRIDING SYSTEM VALUE SELECT {Columns(All)} FROM {staging} ON CONFLICT "
        + $"({Columns(form.KeyOrdinals)}) DO "
        + (
            Others.Count == 0
                ? "NOTHING"
                : $"UPDATE SET {string.Join(", ", Others.Select(column => $"{Column(column)} = excluded.{Column(column)}"))}"
        );

    public string UpdateStaged(string staging, int what, IReadOnlyList<int> set) =>
        $"UPDATE {Name} AS t SET {string.Join(", ", set.Select(column => $"{Column(column)} = s.{Column(column)}"))} FROM {staging} "
        + $"AS s WHERE s.{Staging.What} = {what} AND {Joined}";

    public string DeleteStaged(string staging, int what) =>
        $"DELETE FROM {Name} AS t USING {staging} AS s WHERE s.{Staging.What} = {what} AND {Joined}";

    private string Unless => form.HasKey ? $" ON CONFLICT ({Columns(form.KeyOrdinals)}) DO NOTHING" : "";

    private IEnumerable<int> All => Enumerable.Range(0, form.Columns.Count);

    private string Joined => string.Join(" AND ", form.KeyOrdinals.Select(column => $"t.{Column(column)} = s.{Column(column)}"));

    private string Column(int ordinal) => Quote.Name(form.Columns[ordinal].Name);

    private string Columns(IEnumerable<int> ordinals) => string.Join(", ", ordinals.Select(Column));

    private string Made(string key, Func<string> make)
    {
        if (!made.TryGetValue(key, out var statement))
        {
            made.Add(key, statement = make());
        }

        return statement;
    }
}
