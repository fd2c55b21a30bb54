using System.Text.Json;
using SQLitePCL;
using Vestige.Connectors.StandIn.Catalogue;
using Vestige.Connectors.StandIn.Native;
using Vestige.Core.Schemas;

namespace Vestige.Connectors.StandIn.Log;

/// <summary>
/// Which form each table has had, by number. A change in the log names the number of the form under which its rows were
/// written. Used within the door only.
/// </summary>
internal sealed class Relations(sqlite3 database, string schema)
{
    private readonly Dictionary<string, (int Number, TableSchema? Schema)> current = [];
    private int last;

    public int SchemaVersion { get; private set; } = -1;

    /// <summary>Reads the numbers kept and gives numbers to tables that have none, as at the first opening.</summary>
    public void Load()
    {
        using (var known = new Statement(database, "SELECT number, body FROM vestige_relation ORDER BY number", "relations"))
        {
            while (known.Step())
            {
                var form = JsonSerializer.Deserialize<TableSchema>(known.Text(1))!;
                last = (int)known.Integer(0);
                current[form.Name.Name] = (last, form);
            }
        }

        Refresh();
    }

    /// <summary>The number under which the table's rows are written now; a new one for a table not seen before.</summary>
    public int NumberOf(string table)
    {
        if (!current.TryGetValue(table, out var known))
        {
            known = (++last, null);
            current.Add(table, known);
        }

        return known.Number;
    }

    /// <summary>The form of that number among the present ones; null when it is a former one.</summary>
    public TableSchema? FormOf(int number) => current.Values.FirstOrDefault(known => known.Number == number).Schema;

    public bool SchemaMoved()
    {
        using var version = new Statement(database, "PRAGMA schema_version", "schema version");
        version.Step();
        return version.Integer(0) != SchemaVersion;
    }

    /// <summary>
    /// Compares the tables there are with the ones known, keeps what is new and returns the changes of form: a number and
    /// what was done. Unique and foreign keys alone are no change of form.
    /// </summary>
    public IReadOnlyList<(int Number, string What)> Refresh()
    {
        var changes = new List<(int, string)>();
        var there = TableCatalogue.Read(database, schema).ToDictionary(table => table.Name.Name);
        foreach (var form in there.Values.OrderBy(form => form.Name))
        {
            current.TryGetValue(form.Name.Name, out var known);
            if (known.Schema is not null && JsonSerializer.Serialize(known.Schema) == JsonSerializer.Serialize(form))
            {
                continue;
            }

            var number = known.Schema is null && known.Number > 0 ? known.Number : ++last;
            current[form.Name.Name] = (number, form);
            Keep(number, form);
            if (known.Schema is null)
            {
                changes.Add((number, "table created"));
            }
            else if (known.Schema.DifferenceTo(form) is { } difference)
            {
                changes.Add((number, Describe(known.Schema, form, difference)));
            }
        }

        foreach (var gone in current.Where(pair => pair.Value.Schema is not null && !there.ContainsKey(pair.Key)).ToList())
        {
            changes.Add((gone.Value.Number, "table dropped"));
            current.Remove(gone.Key);
        }

        ReadVersion();
        return changes;
    }

    /// <summary>Forgets what a rolled back transaction had made.</summary>
    public void Reload()
    {
        current.Clear();
        last = 0;
        Load();
    }

    private static string Describe(TableSchema before, TableSchema after, string difference)
    {
        var added = after.Columns.Where(column => before.IndexOf(column.Name) < 0).Select(column => column.Name).ToList();
        var dropped = before.Columns.Where(column => after.IndexOf(column.Name) < 0).Select(column => column.Name).ToList();
        return (added.Count, dropped.Count) switch
        {
            (0, 0) => difference,
            ( > 0, 0) => $"column {string.Join(", ", added)} added",
            (0, > 0) => $"column {string.Join(", ", dropped)} dropped",
            (1, 1) when after.IndexOf(added[0]) == before.IndexOf(dropped[0]) => $"column {dropped[0]} renamed to {added[0]}",
            _ => $"column {string.Join(", ", dropped)} dropped, {string.Join(", ", added)} added",
        };
    }

    private void Keep(int number, TableSchema form)
    {
        using var insert = new Statement(database, "INSERT INTO vestige_relation (number, body) VALUES (?, ?)", "relations");
        insert.Bind(1, number).Bind(2, JsonSerializer.Serialize(form)).Run();
    }

    private void ReadVersion()
    {
        using var version = new Statement(database, "PRAGMA schema_version", "schema version");
        version.Step();
        SchemaVersion = (int)version.Integer(0);
    }
}
