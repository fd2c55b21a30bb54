using System.Globalization;
using Npgsql;
using Vestige.Connectors.PostgreSql.Catalogue;
using Vestige.Connectors.PostgreSql.Log;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;

namespace Vestige.Connectors.PostgreSql.Watching;

/// <summary>
/// Looks at the catalogue for what happened to tables. One statement gives a digest of each table; only those of which it is
/// another than the known one are read in full, so that a look at thousands of tables stays cheap for the server.
/// </summary>
internal static class CatalogueGlancer
{
    private const string Glances = $"SELECT f.oid, f.nspname, f.relname, md5(f::text), f.types FROM ({TableStatements.Facts}) f";

    private const string Types = """
        SELECT e.enumtypid, format_type(e.enumtypid, NULL), true, e.oid::int8, e.enumlabel::text FROM pg_enum e
        UNION ALL
        SELECT t.oid, format_type(t.oid, NULL), false, a.attnum::int8, quote_ident(a.attname) || ' ' || format_type(a.atttypid, a.atttypmod)
        FROM pg_class c JOIN pg_type t ON t.typrelid = c.oid JOIN pg_attribute a ON a.attrelid = c.oid
            WHERE c.relkind = 'c' AND a.attnum > 0 AND NOT a.attisdropped
        """;

    /// <summary>
    /// The tables with a column of a type, of arrays and ranges of it, of domains over it, or of composite types that hold it.
    /// </summary>
    private const string Users = """
        WITH RECURSIVE used(type) AS (
          SELECT $1::oid
          UNION
          SELECT t.oid FROM used u JOIN pg_type t ON t.typbasetype = u.type OR (t.typelem = u.type AND t.typlen = -1)
            OR t.oid IN (SELECT r.rngtypid FROM pg_range r WHERE r.rngsubtype = u.type)
            OR t.typrelid IN (SELECT a.attrelid FROM pg_attribute a
                JOIN pg_class c ON c.oid = a.attrelid WHERE a.atttypid = u.type AND c.relkind = 'c'))
        SELECT DISTINCT a.attrelid FROM used u JOIN pg_attribute a ON a.atttypid = u.type WHERE a.attnum > 0 AND NOT a.attisdropped
        """;

    /// <summary>Looks at those of the tables that there are, and at those of the numbers whatever they are called now.</summary>
    public static async Task<CatalogueGlance> LookAsync(
        NpgsqlConnection connection,
        LogNames names,
        KnownCatalogue known,
        IReadOnlyCollection<TableName> tables,
        CancellationToken cancellation
    )
    {
        var running = await RunningAsync(connection, cancellation);
        var (begin, _, horizon) = await PlaceAsync(connection, cancellation);
        var (glances, print) = await GlancesAsync(connection, names, known, tables, cancellation);
        var (states, recorded) = await StatesAsync(connection, names, known, glances, cancellation);
        var types = print == known.TypesPrint ? null : await TypesAsync(connection, cancellation);
        var users = new Dictionary<uint, IReadOnlySet<uint>>();
        foreach (
            var type in types is null
                ? []
                : known
                    .Types.Where(pair => !types.TryGetValue(pair.Key, out var now) || !now.Values.SequenceEqual(pair.Value.Values))
                    .Select(pair => pair.Key)
        )
        {
            users.Add(type, await UsersAsync(connection, type, cancellation));
        }

        var survived = new HashSet<uint>();
        foreach (var (name, state) in states)
        {
            if (
                known.Find(name) is { } old
                && TableDifferences.MayBeRewritten(old, state)
                && await OldRows.AreThereAsync(connection, state.Number, known.Horizon, cancellation)
            )
            {
                survived.Add(state.Number);
            }
        }

        // Only after all of it: what shows in it was written before.
        var (end, at, _) = await PlaceAsync(connection, cancellation);
        return new CatalogueGlance(
            begin,
            end,
            at,
            states,
            glances.ToDictionary(pair => pair.Key, pair => pair.Value.Name),
            types,
            print,
            users,
            horizon,
            survived,
            running
        )
        {
            Recorded = recorded.ToLookup(change => change.State.Number),
        };
    }

    /// <summary>The transactions that have not ended.</summary>
    public static async Task<RunningTransactions> RunningAsync(NpgsqlConnection connection, CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand(
            "SELECT txid_snapshot_xmax(s), ARRAY(SELECT txid_snapshot_xip(s)) FROM txid_current_snapshot() s",
            connection
        );
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        await reader.ReadAsync(cancellation);
        return new RunningTransactions(reader.GetInt64(0), reader.GetFieldValue<long[]>(1));
    }

    private static async Task<(LogPosition Endpoint, DateTimeOffset At, long Horizon)> PlaceAsync(
        NpgsqlConnection connection,
        CancellationToken cancellation
    )
    {
        await using var command = new NpgsqlCommand(
            "SELECT pg_current_wal_insert_lsn()::text, extract(epoch FROM clock_timestamp())::float8, "
                + "txid_snapshot_xmin(txid_current_snapshot())",
            connection
        );
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        await reader.ReadAsync(cancellation);
        return (Lsn.EndOf(Lsn.Of(reader.GetString(0))), DateTimeOffset.UnixEpoch.AddSeconds(reader.GetDouble(1)), reader.GetInt64(2));
    }

    /// <summary>A statement of <see cref="TableStatements"/> with its parameters.</summary>
    internal static NpgsqlCommand Asking(
        string sql,
        NpgsqlConnection connection,
        LogNames names,
        IEnumerable<TableName> tables,
        IEnumerable<uint> numbers
    )
    {
        var list = tables.ToList();
        var command = new NpgsqlCommand(sql, connection);
        command.Parameters.Add(PostgreSqlDatabase.Texts(list.Select(table => table.Schema)));
        command.Parameters.Add(PostgreSqlDatabase.Texts(list.Select(table => table.Name)));
        command.Parameters.Add(PostgreSqlDatabase.Texts(numbers.Select(number => number.ToString(CultureInfo.InvariantCulture))));
        command.Parameters.Add(PostgreSqlDatabase.Text(names.Publication));
        command.Parameters.Add(PostgreSqlDatabase.Text(names.Inserts));
        return command;
    }

    private static async Task<(Dictionary<uint, (TableName Name, string Glance)> Found, string TypesPrint)> GlancesAsync(
        NpgsqlConnection connection,
        LogNames names,
        KnownCatalogue known,
        IReadOnlyCollection<TableName> tables,
        CancellationToken cancellation
    )
    {
        var numbers = tables.Select(table => known.Find(table)?.Number).OfType<uint>();
        await using var command = Asking(Glances, connection, names, tables, numbers);
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        var found = new Dictionary<uint, (TableName, string)>();
        var print = known.TypesPrint;
        while (await reader.ReadAsync(cancellation))
        {
            found.Add(reader.GetFieldValue<uint>(0), (new TableName(reader.GetString(1), reader.GetString(2)), reader.GetString(3)));
            print = reader.GetString(4);
        }

        return (found, print);
    }

    private static async Task<(Dictionary<TableName, TableState> States, IReadOnlyList<RecordedChange> Recorded)> StatesAsync(
        NpgsqlConnection connection,
        LogNames names,
        KnownCatalogue known,
        Dictionary<uint, (TableName Name, string Glance)> glances,
        CancellationToken cancellation
    )
    {
        var states = new Dictionary<TableName, TableState>();
        var others = new HashSet<uint>();
        foreach (var (number, (name, glance)) in glances)
        {
            if (known.Find(name) is { } state && state.Number == number && state.Glance == glance)
            {
                states.Add(name, state);
            }
            else
            {
                others.Add(number);
            }
        }

        if (others.Count == 0)
        {
            return (states, []);
        }

        var knownOf = known.Tables.Values.OfType<TableState>().Where(state => others.Contains(state.Number));
        var (read, recorded) = await TableStateReader.ReadAsync(connection, names, others, knownOf, cancellation);
        foreach (var (name, state) in read)
        {
            states[name] = state;
        }

        return (states, recorded);
    }

    private static async Task<Dictionary<uint, TypeState>> TypesAsync(NpgsqlConnection connection, CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand(Types, connection);
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        var types = new Dictionary<uint, TypeState>();
        while (await reader.ReadAsync(cancellation))
        {
            var number = reader.GetFieldValue<uint>(0);
            if (!types.TryGetValue(number, out var type))
            {
                types.Add(number, type = new TypeState(reader.GetString(1), reader.GetBoolean(2), []));
            }

            type.Values.Add(reader.GetInt64(3), reader.GetString(4));
        }

        return types;
    }

    private static async Task<IReadOnlySet<uint>> UsersAsync(NpgsqlConnection connection, uint type, CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand(Users, connection);
        command.Parameters.Add(PostgreSqlDatabase.Text(type.ToString(CultureInfo.InvariantCulture)));
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        var users = new HashSet<uint>();
        while (await reader.ReadAsync(cancellation))
        {
            users.Add(reader.GetFieldValue<uint>(0));
        }

        return users;
    }
}
