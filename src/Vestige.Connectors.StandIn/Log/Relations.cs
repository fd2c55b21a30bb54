using System.Text.Json;
using SQLitePCL;
using Vestige.Connectors.StandIn.Catalogue;
using Vestige.Connectors.StandIn.Native;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.StandIn.Log;

/// <summary>
/// Which form each table has had, by number. A change in the log names the number of the form under which its rows were
/// written. Used within the door only.
/// </summary>
internal sealed class Relations(sqlite3 database, string schema)
{
    /// <summary>Stands in the log where a table went.</summary>
    public const string Dropped = "table dropped";

    private readonly Dictionary<string, (int Number, TableSchema? Schema)> current = [];

    /// <summary>The highest number that a column of each table ever had.</summary>
    private readonly Dictionary<string, int> lastColumns = [];

    /// <summary>The tables that refer to each, or did once.</summary>
    private readonly Dictionary<string, HashSet<string>> referring = new(StringComparer.OrdinalIgnoreCase);

    /// <summary>The statements of each table and its indexes, as they were when its form was read.</summary>
    private readonly Dictionary<string, string> statements = [];
    private int last;
    private bool isAhead;

    /// <summary>How many entries the catalogue had when it was read last, and the number of the last.</summary>
    private (long Count, long Last) extent;

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
                Know(last, ColumnNumbers.First(form));
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
            isAhead = true;
        }

        return known.Number;
    }

    /// <summary>The form of that number among the present ones; null when it is a former one.</summary>
    public TableSchema? FormOf(int number) => current.Values.FirstOrDefault(known => known.Number == number).Schema;

    /// <summary>The present form of a table; null where there is none of that name.</summary>
    public TableSchema? FormOf(string table) => current.GetValueOrDefault(table).Schema;

    public bool SchemaMoved()
    {
        using var version = new Statement(database, "PRAGMA schema_version", "schema version");
        version.Step();
        return version.Integer(0) != SchemaVersion;
    }

    /// <summary>
    /// Compares the tables there are with the ones known, keeps what is new and returns the changes of form: the number of the form after
    /// it, and what was done. Unique and foreign keys alone are no change of form. Only tables whose statements changed are read, so that a
    /// database of thousands of tables can be built statement by statement.
    /// </summary>
    /// <param name="onlyMakes">
    /// Whether one statement was run since the last time, or several that only make tables. Where that made entries of the catalogue it
    /// changed no other.
    /// </param>
    public IReadOnlyList<(int Number, SchemaNotice Notice)> Refresh(bool onlyMakes = false)
    {
        var changes = new List<(int, SchemaNotice)>();
        var made = onlyMakes ? Made() : null;
        var there = made ?? TableCatalogue.Statements(database);
        var changed = made is null ? Changed(there) : [.. made.Keys, .. Referring([.. made.Keys])];
        foreach (var read in changed.Select(name => TableCatalogue.ReadTable(database, schema, name)).OrderBy(form => form.Name))
        {
            statements[read.Name.Name] = there.GetValueOrDefault(read.Name.Name) ?? statements[read.Name.Name];
            if (Take(read) is { } change)
            {
                changes.Add(change);
            }
        }

        foreach (var gone in made is null ? Gone(there) : [])
        {
            changes.Add((gone.Value.Number, new SchemaNotice(Dropped, IsExact: true)));
            current.Remove(gone.Key);
            statements.Remove(gone.Key);
        }

        ReadVersion();
        extent = TableCatalogue.Extent(database);
        return changes;
    }

    /// <summary>Takes a table as it is now; null where that is no change of form.</summary>
    private (int Number, SchemaNotice Notice)? Take(TableSchema read)
    {
        current.TryGetValue(read.Name.Name, out var known);
        var form = known.Schema is { } before ? ColumnNumbers.Keep(before, read, lastColumns[read.Name.Name]) : ColumnNumbers.First(read);
        if (known.Schema is not null && JsonSerializer.Serialize(known.Schema) == JsonSerializer.Serialize(form))
        {
            return null;
        }

        var number = known.Schema is null && known.Number > 0 ? known.Number : ++last;
        Know(number, form);
        Keep(number, form);
        if (known.Schema is null)
        {
            return (number, new SchemaNotice("table created", IsExact: true));
        }

        if (known.Schema.DifferenceTo(form) is not { } difference)
        {
            return null;
        }

        var steps = SchemaComparison.Steps(known.Schema, form);
        return (
            number,
            new SchemaNotice(Describe(known.Schema, form, difference), IsExact: true)
            {
                Changes = steps,
                Before = steps.Count > 0 ? known.Schema : null,
            }
        );
    }

    private List<KeyValuePair<string, (int Number, TableSchema? Schema)>> Gone(IReadOnlyDictionary<string, string> there) =>
        [.. current.Where(pair => pair.Value.Schema is not null && !there.ContainsKey(pair.Key))];

    /// <summary>The tables of which entries of the catalogue were made; null where anything else was done to it.</summary>
    private IReadOnlyDictionary<string, string>? Made()
    {
        var now = TableCatalogue.Extent(database);
        if (now.Count <= extent.Count)
        {
            return null;
        }

        var (made, entries) = TableCatalogue.StatementsAfter(database, extent.Last);
        return entries == now.Count - extent.Count ? made : null;
    }

    /// <summary>What is known now is committed.</summary>
    public void Committed() => isAhead = false;

    /// <summary>Forgets what a rolled back transaction had made.</summary>
    public void RolledBack()
    {
        if (!isAhead && !SchemaMoved())
        {
            return;
        }

        current.Clear();
        lastColumns.Clear();
        referring.Clear();
        statements.Clear();
        last = 0;
        isAhead = false;
        Load();
    }

    private void Know(int number, TableSchema form)
    {
        var name = form.Name.Name;
        current[name] = (number, form);
        lastColumns[name] = Math.Max(lastColumns.GetValueOrDefault(name), form.Columns.Max(column => column.Id ?? 0));
        foreach (var parent in form.ForeignKeys.Select(key => key.References.Name))
        {
            if (!referring.TryGetValue(parent, out var tables))
            {
                referring.Add(parent, tables = []);
            }

            tables.Add(name);
        }
    }

    /// <summary>
    /// Tables that are new or have other statements, and those that refer to one that changed or went: what they refer to may be another
    /// key.
    /// </summary>
    private HashSet<string> Changed(IReadOnlyDictionary<string, string> there)
    {
        var changed = there
            .Where(pair => !statements.TryGetValue(pair.Key, out var known) || known != pair.Value)
            .Select(pair => pair.Key)
            .ToHashSet();
        var moved = changed.Concat(statements.Keys.Where(name => !there.ContainsKey(name))).ToHashSet(StringComparer.OrdinalIgnoreCase);
        if (moved.Count > 0)
        {
            changed.UnionWith(Referring(moved).Where(there.ContainsKey));
        }

        return changed;
    }

    private List<string> Referring(HashSet<string> tables)
    {
        var moved = tables.ToHashSet(StringComparer.OrdinalIgnoreCase);
        return
        [
            .. moved
                .SelectMany(table => referring.GetValueOrDefault(table) ?? [])
                .Distinct()
                .Where(name => !tables.Contains(name) && RefersTo(current.GetValueOrDefault(name).Schema, moved)),
        ];
    }

    private static bool RefersTo(TableSchema? schema, HashSet<string> tables) =>
        schema?.ForeignKeys.Any(key => tables.Contains(key.References.Name)) == true;

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
        isAhead = true;
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
