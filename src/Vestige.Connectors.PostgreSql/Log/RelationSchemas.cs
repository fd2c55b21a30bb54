using System.Text.Json;
using Npgsql;
using Vestige.Connectors.PostgreSql.Watching;
using Vestige.Connectors.PostgreSql.Wire;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;

namespace Vestige.Connectors.PostgreSql.Log;

/// <summary>
/// The forms of tables as the log tells them, each with a number that stands for it for ever. The log names types by their
/// identifiers; their names are asked from the server once. Which table and which columns these are is what the catalogue says,
/// where it has what the log told; else the log is older, and rows are of a form that nothing was loaded under.
/// </summary>
internal sealed class RelationSchemas(
    PostgreSqlDatabase database,
    TableWatch watch,
    IReadOnlySet<TableName> tables,
    IReadOnlyDictionary<int, TableSchema> known
)
{
    private readonly Dictionary<uint, LoggedRelation> byIdentifier = [];
    private readonly Dictionary<string, int> numbers = known.ToDictionary(pair => Print(pair.Value), pair => pair.Key);
    private readonly Dictionary<(uint Type, int Modifier), string> types = [];
    private int last = known.Count == 0 ? -1 : known.Keys.Max();

    /// <summary>Forms met since the last call, by number.</summary>
    public Dictionary<int, TableSchema> Fresh { get; private set; } = [];

    /// <summary>A table in a transaction at a position, as the log has told it.</summary>
    public LoggedRelation Of(uint identifier, LogPosition position)
    {
        if (!byIdentifier.TryGetValue(identifier, out var found))
        {
            throw new InvalidDataException($"The log names relation {identifier} before it told its form.");
        }

        return found.Doubt is { } doubt && position > doubt.Tried ? LookAgain(identifier, found, doubt, position) : found;
    }

    public Dictionary<int, TableSchema> TakeFresh()
    {
        var taken = Fresh;
        Fresh = [];
        return taken;
    }

    /// <summary>Takes the description of a table that stands in a transaction of that number, at a place.</summary>
    public async Task TakeAsync(ReadOnlyMemory<byte> body, LogPosition position, uint transaction, CancellationToken cancellation)
    {
        var told = Described(body.Span);
        await watch.MeetAsync(told.Identifier, told.Name, position, transaction, cancellation);
        if (!tables.Contains(told.Name))
        {
            byIdentifier[told.Identifier] = new LoggedRelation(told.Name, null, -1, []);
            return;
        }

        await NameTypesAsync(told.Columns.Select(column => (column.Type, column.Modifier)), cancellation);
        var (known, fitSeveral) = Find(told.Identifier, told.Name, told.Columns, position);
        var form = known ?? await OlderAsync(told.Identifier, told.Name, told.Identity, told.Columns, cancellation);
        byIdentifier[told.Identifier] = new LoggedRelation(
            told.Name,
            form,
            NumberOf(form),
            [.. told.Columns.Select(column => column.IsKey)],
            fitSeveral ? new DoubtfulForm(told.Columns, position) : null
        );
    }

    private (TableSchema? Form, bool FitSeveral) Find(
        uint identifier,
        TableName name,
        IReadOnlyList<(string Name, uint Type, int Modifier, bool IsKey)> told,
        LogPosition position
    ) => watch.Find(name) is { } state && state.Number == identifier ? KnownForms.Find(name, state, told, position) : default;

    /// <summary>The log tells a form once, however many transactions have rows of it.</summary>
    private LoggedRelation LookAgain(uint identifier, LoggedRelation relation, DoubtfulForm doubt, LogPosition position)
    {
        var (form, fitSeveral) = Find(identifier, relation.Name, doubt.Columns, position);
        var now = form is not null
            ? relation with
            {
                Schema = form,
                Number = NumberOf(form),
            }
            : relation;
        return byIdentifier[identifier] = now with { Doubt = fitSeveral ? doubt with { Tried = position } : null };
    }

    /// <summary>A number for the form after a change. That before it gets one too: a crossing may go on with that.</summary>
    public int NumberOf(TableChange change)
    {
        if (change.Notice.Before is { } before)
        {
            NumberOf(before);
        }

        return NumberOf(change.Schema ?? LogDecoder.Bare(change.Table));
    }

    /// <summary>A number for a form: for rows, and for what is said of a table beside them.</summary>
    public int NumberOf(TableSchema form)
    {
        var print = Print(form);
        if (!numbers.TryGetValue(print, out var number))
        {
            number = ++last;
            numbers.Add(print, number);
            Fresh.Add(number, form);
        }

        return number;
    }

    private async Task<TableSchema> OlderAsync(
        uint identifier,
        TableName name,
        char identity,
        List<(string Name, uint Type, int Modifier, bool IsKey)> told,
        CancellationToken cancellation
    )
    {
        var key = identity is 'f' or 'n'
            ? await KeyAsync(identifier, cancellation)
            : [.. told.Where(column => column.IsKey).Select(column => column.Name)];
        var ordinal = 0;
        List<Column> columns =
        [
            .. told.Select(column => new Column(
                column.Name,
                types[(column.Type, column.Modifier)],
                KeyOrdinal: key.Contains(column.Name) ? ++ordinal : 0
            )),
        ];
        return new TableSchema(name, columns, [], []) { Incarnation = $"{identifier}.older", Stamp = "" };
    }

    /// <summary>
    /// A column that was added and dropped again leaves the same columns: only the generation says which rows are older.
    /// </summary>
    private static string Print(TableSchema form) =>
        JsonSerializer.Serialize(
            new
            {
                form.Name.Schema,
                form.Name.Name,
                form.Incarnation,
                form.Stamp,
                form.Generation,
                Columns = form.Columns.Select(column => new
                {
                    column.Name,
                    column.Type,
                    column.KeyOrdinal,
                }),
            }
        );

    private static (
        uint Identifier,
        TableName Name,
        char Identity,
        List<(string Name, uint Type, int Modifier, bool IsKey)> Columns
    ) Described(ReadOnlySpan<byte> body)
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
            cancellation
        );
    }

    /// <summary>
    /// Under the full replica identity the log marks every column, under none no column; the key is then asked from the catalogue.
    /// </summary>
    private Task<HashSet<string>> KeyAsync(uint identifier, CancellationToken cancellation) =>
        database.UseAsync(
            "Reading a key",
            async (connection, stop) =>
            {
                await using var command = new NpgsqlCommand(
                    "SELECT a.attname::text FROM pg_index i JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = ANY "
                        + $"(i.indkey) WHERE i.indrelid = {identifier}::oid AND i.indisprimary AND i.indimmediate",
                    connection
                );
                await using var reader = await command.ExecuteReaderAsync(stop);
                var names = new HashSet<string>();
                while (await reader.ReadAsync(stop))
                {
                    names.Add(reader.GetString(0));
                }

                return names;
            },
            cancellation
        );
}
