using System.Text.Json;
using Npgsql;
using Vestige.Connectors.PostgreSql.Wire;
using Vestige.Core.Schemas;

namespace Vestige.Connectors.PostgreSql.Log;

/// <summary>
/// The forms of tables as the log tells them, each with a number that stands for it for ever. The log names types by their
/// identifiers; their names are asked from the server once.
/// </summary>
internal sealed class RelationForms(PostgreSqlDatabase database, IReadOnlySet<TableName> tables, IReadOnlyDictionary<int, TableSchema> known)
{
    private readonly Dictionary<uint, LoggedRelation> byIdentifier = [];
    private readonly Dictionary<string, int> numbers = known.ToDictionary(pair => Print(pair.Value), pair => pair.Key);
    private readonly Dictionary<TableName, int> latest = known.Where(pair => pair.Value.Columns.Count > 0).OrderBy(pair => pair.Key).GroupBy(pair => pair.Value.Name).ToDictionary(group => group.Key, group => group.Last().Key);
    private readonly Dictionary<(uint Type, int Modifier), string> types = [];
    private int last = known.Count == 0 ? -1 : known.Keys.Max();

    /// <summary>Forms met since the last call, by number.</summary>
    public Dictionary<int, TableSchema> Fresh { get; private set; } = [];

    public LoggedRelation Of(uint identifier) => byIdentifier.TryGetValue(identifier, out var found)
        ? found
        : throw new InvalidDataException($"The log names relation {identifier} before it told its form.");

    public Dictionary<int, TableSchema> TakeFresh()
    {
        var taken = Fresh;
        Fresh = [];
        return taken;
    }

    /// <summary>Takes the description of a table; returns what changed about its form, in words, or null when nothing did.</summary>
    public async Task<(LoggedRelation Relation, string? Changed)> TakeAsync(ReadOnlyMemory<byte> body, CancellationToken cancellation)
    {
        var told = Told(body.Span);
        if (!tables.Contains(told.Name))
        {
            return (byIdentifier[told.Identifier] = new LoggedRelation(told.Name, null, -1, []), null);
        }

        await NameTypesAsync(told.Columns.Select(column => (column.Type, column.Modifier)), cancellation);
        var key = told.Identity is 'f' or 'n' ? await KeyAsync(told.Identifier, cancellation) : [.. told.Columns.Where(column => column.IsKey).Select(column => column.Name)];
        var place = 0;
        var columns = told.Columns
            .Select(column => new Column(column.Name, types[(column.Type, column.Modifier)], KeyOrdinal: key.Contains(column.Name) ? ++place : 0))
            .ToList();
        var form = new TableSchema(told.Name, columns, [], []);
        var print = Print(form);
        string? changed = null;
        if (!numbers.TryGetValue(print, out var number))
        {
            number = ++last;
            numbers.Add(print, number);
            Fresh.Add(number, form);
        }

        if (latest.TryGetValue(told.Name, out var before) && before != number)
        {
            changed = "its columns or its key are others now";
        }

        latest[told.Name] = number;
        var relation = new LoggedRelation(told.Name, form, number, [.. told.Columns.Select(column => column.IsKey)]);
        return (byIdentifier[told.Identifier] = relation, changed);
    }

    /// <summary>A number for a table itself, whatever its columns are: for what is said of it beside the changes of its rows.</summary>
    public int NumberOf(TableName table)
    {
        var bare = new TableSchema(table, [], [], []);
        var print = Print(bare);
        if (!numbers.TryGetValue(print, out var number))
        {
            number = ++last;
            numbers.Add(print, number);
            Fresh.Add(number, bare);
        }

        return number;
    }

    private static string Print(TableSchema form) =>
        JsonSerializer.Serialize(new { form.Name.Schema, form.Name.Name, Columns = form.Columns.Select(column => new { column.Name, column.Type, column.KeyOrdinal }) });

    private static (uint Identifier, TableName Name, char Identity, List<(string Name, uint Type, int Modifier, bool IsKey)> Columns) Told(ReadOnlySpan<byte> body)
    {
        var reader = new WireReader(body);
        reader.Byte();
        var identifier = reader.UInt32();
        var schema = reader.Text();
        var name = new TableName(schema.Length == 0 ? "pg_catalog" : schema, reader.Text());
        var identity = (char)reader.Byte();
        var count = reader.Int16();
        var columns = new List<(string, uint, int, bool)>(count);
        for (var i = 0; i < count; i++)
        {
            var isKey = (reader.Byte() & 1) == 1;
            var column = reader.Text();
            columns.Add((column, reader.UInt32(), reader.Int32(), isKey));
        }

        return (identifier, name, identity, columns);
    }

    private async Task NameTypesAsync(IEnumerable<(uint Type, int Modifier)> wanted, CancellationToken cancellation)
    {
        var missing = wanted.Where(type => !types.ContainsKey(type)).Distinct().ToList();
        if (missing.Count == 0)
        {
            return;
        }

        await database.UseAsync(
            "Naming types",
            async (connection, stop) =>
            {
                foreach (var (type, modifier) in missing)
                {
                    await using var command = new NpgsqlCommand($"SELECT format_type({type}::oid, {modifier})", connection);
                    types[(type, modifier)] = (string)(await command.ExecuteScalarAsync(stop))!;
                }

                return true;
            },
            cancellation);
    }

    /// <summary>Under the full replica identity the log marks every column, under none no column; the key is then asked from the catalogue.</summary>
    private Task<HashSet<string>> KeyAsync(uint identifier, CancellationToken cancellation) => database.UseAsync(
        "Reading a key",
        async (connection, stop) =>
        {
            await using var command = new NpgsqlCommand(
                $"SELECT a.attname::text FROM pg_index i JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = ANY (i.indkey) WHERE i.indrelid = {identifier}::oid AND i.indisprimary",
                connection);
            await using var reader = await command.ExecuteReaderAsync(stop);
            var names = new HashSet<string>();
            while (await reader.ReadAsync(stop))
            {
                names.Add(reader.GetString(0));
            }

            return names;
        },
        cancellation);
}
