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
    private const string Facts = $"""
        SELECT c.oid, n.nspname::text, c.relname::text, {TableIdentity.Shape} AS shape, coalesce({TableIdentity.Writers},
            '') || '.' || types.print AS stamp,
               (SELECT string_agg(a.attnum || ':' || a.atthasmissing, ',' ORDER BY a.attnum) FROM pg_attribute a
                   WHERE a.attrelid = c.oid AND a.attnum > 0 AND a.atthasmissing) AS missing,
               CASE c.relkind WHEN 'p' THEN (SELECT coalesce(sum(l.relfilenode::int8), 0)::int8 FROM pg_partition_tree(c.oid) p
                   JOIN pg_class l ON l.oid = p.relid) ELSE c.relfilenode::int8 END AS file,
               (SELECT r.oid FROM pg_publication_rel r JOIN pg_publication p ON p.oid = r.prpubid
                   WHERE r.prrelid = c.oid AND p.pubname = $4) AS whole,
               (SELECT r.oid FROM pg_publication_rel r JOIN pg_publication p ON p.oid = r.prpubid
                   WHERE r.prrelid = c.oid AND p.pubname = $5) AS inserts,
               {TableIdentity.Identified} AS identified, types.print AS types, {TableIdentity.Key} AS key,
               c.relnatts AS attributes,
               (SELECT string_agg(r.oid || ':' || r.conname, ',' ORDER BY r.oid) FROM pg_constraint r
                   WHERE r.conrelid = c.oid AND r.contype IN ('c', 'f', 'u', 'x')) AS constraints,
               (SELECT string_agg(i.indexrelid || ':' || x.relname, ',' ORDER BY i.indexrelid) FROM pg_index i
                   JOIN pg_class x ON x.oid = i.indexrelid WHERE i.indrelid = c.oid AND i.indisunique AND NOT i.indisprimary) AS uniques
        FROM (SELECT {TableIdentity.Types} AS print) types CROSS JOIN (
          SELECT c.oid FROM unnest($1::text[], $2::text[]) t(schema, name) JOIN pg_namespace n ON n.nspname = t.schema
              JOIN pg_class c ON c.relnamespace = n.oid AND c.relname = t.name
          UNION SELECT unnest($3::text[]::oid[])) wanted
        JOIN pg_class c ON c.oid = wanted.oid JOIN pg_namespace n ON n.oid = c.relnamespace
        """;

    private const string Glances = $"SELECT f.oid, f.nspname, f.relname, md5(f::text), f.types FROM ({Facts}) f";

    /// <summary>
    /// Of a partitioned table the parts have the values of rows that are older than a column. Looked up for those only: a database may have
    /// many thousands of columns.
    /// </summary>
    private const string OfParts =
        "pg_partition_tree(a.attrelid) t JOIN pg_attribute p ON p.attrelid = t.relid AND p.attname = a.attname WHERE p.atthasmissing";

    private const string Columns = $"""
        SELECT a.attrelid, a.attnum, a.attname::text, format_type(a.atttypid, a.atttypmod), a.atttypid, a.atttypmod,
            a.attgenerated <> '', a.xmin::text,
            CASE k.relkind WHEN 'p' THEN EXISTS (SELECT FROM {OfParts}) ELSE a.atthasmissing END,
            NOT a.attnotnull, pg_get_expr(d.adbin, d.adrelid),
            CASE WHEN k.relkind = 'p' THEN (
                SELECT CASE WHEN count(DISTINCT p.attmissingval::text) = 1 THEN (min(p.attmissingval::text)::text[])[1] END FROM {OfParts})
            WHEN a.atthasmissing THEN (a.attmissingval::text::text[])[1] END
        FROM pg_attribute a JOIN pg_class k ON k.oid = a.attrelid
            LEFT JOIN pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum
        WHERE a.attrelid = ANY ($1::text[]::oid[]) AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attrelid, a.attnum
        """;

    private const string Guards = """
        SELECT r.conrelid, r.oid, r.conname::text, pg_get_constraintdef(r.oid) FROM pg_constraint r
        WHERE r.conrelid = ANY ($1::text[]::oid[]) AND r.contype IN ('c', 'f', 'u', 'x')
        UNION ALL
        SELECT i.indrelid, i.indexrelid, x.relname::text, pg_get_indexdef(i.indexrelid) FROM pg_index i
            JOIN pg_class x ON x.oid = i.indexrelid
        WHERE i.indrelid = ANY ($1::text[]::oid[]) AND i.indisunique AND NOT i.indisprimary
          AND NOT EXISTS (SELECT FROM pg_constraint k WHERE k.conindid = i.indexrelid AND k.contype IN ('u', 'x'))
        ORDER BY 1, 2
        """;

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
        var states = await StatesAsync(connection, names, known, glances, cancellation);
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
        );
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

    private static NpgsqlCommand Asking(
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

    private static async Task<Dictionary<TableName, TableState>> StatesAsync(
        NpgsqlConnection connection,
        LogNames names,
        KnownCatalogue known,
        Dictionary<uint, (TableName Name, string Glance)> glances,
        CancellationToken cancellation
    )
    {
        var states = new Dictionary<TableName, TableState>();
        var others = new List<uint>();
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

        if (others.Count > 0)
        {
            foreach (var (name, state) in await FullStatesAsync(connection, names, others, cancellation))
            {
                states[name] = state;
            }
        }

        return states;
    }

    /// <summary>As of one moment: with columns of one and a digest of another, a change between the two would never be noticed.</summary>
    private static async Task<List<(TableName Name, TableState State)>> FullStatesAsync(
        NpgsqlConnection connection,
        LogNames names,
        List<uint> numbers,
        CancellationToken cancellation
    )
    {
        await using var transaction = await connection.BeginTransactionAsync(System.Data.IsolationLevel.RepeatableRead, cancellation);
        var columns = await ColumnsAsync(connection, numbers, cancellation);
        var guards = await GuardsAsync(connection, numbers, cancellation);
        await using var command = Asking($"SELECT f.*, md5(f::text) FROM ({Facts}) f", connection, names, [], numbers);
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        var found = new List<(TableName, TableState)>();
        while (await reader.ReadAsync(cancellation))
        {
            var number = reader.GetFieldValue<uint>(0);
            found.Add(
                (
                    new TableName(reader.GetString(1), reader.GetString(2)),
                    new TableState(
                        number,
                        reader.GetString(3),
                        reader.GetString(4),
                        reader.GetInt64(6),
                        columns.GetValueOrDefault(number, []),
                        reader.GetFieldValue<short[]>(11),
                        reader.IsDBNull(7) ? null : reader.GetFieldValue<uint>(7),
                        reader.IsDBNull(8) ? null : reader.GetFieldValue<uint>(8),
                        reader.GetBoolean(9),
                        reader.GetString(15)
                    )
                    {
                        Attributes = reader.GetInt16(12),
                        Guards = guards.GetValueOrDefault(number, []),
                    }
                )
            );
        }

        return found;
    }

    private static async Task<Dictionary<uint, List<ColumnState>>> ColumnsAsync(
        NpgsqlConnection connection,
        List<uint> numbers,
        CancellationToken cancellation
    )
    {
        await using var command = new NpgsqlCommand(Columns, connection);
        command.Parameters.Add(PostgreSqlDatabase.Texts(numbers.Select(number => number.ToString(CultureInfo.InvariantCulture))));
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        var columns = new Dictionary<uint, List<ColumnState>>();
        while (await reader.ReadAsync(cancellation))
        {
            var number = reader.GetFieldValue<uint>(0);
            if (!columns.TryGetValue(number, out var mine))
            {
                columns.Add(number, mine = []);
            }

            mine.Add(
                new ColumnState(
                    reader.GetInt16(1),
                    reader.GetString(2),
                    reader.GetString(3),
                    reader.GetFieldValue<uint>(4),
                    reader.GetInt32(5),
                    reader.GetBoolean(6),
                    long.Parse(reader.GetString(7), CultureInfo.InvariantCulture),
                    reader.GetBoolean(8),
                    reader.GetBoolean(9),
                    reader.IsDBNull(10) ? null : reader.GetString(10)
                )
                {
                    Missing = reader.IsDBNull(11) ? null : reader.GetString(11),
                }
            );
        }

        return columns;
    }

    private static async Task<Dictionary<uint, List<GuardState>>> GuardsAsync(
        NpgsqlConnection connection,
        List<uint> numbers,
        CancellationToken cancellation
    )
    {
        await using var command = new NpgsqlCommand(Guards, connection);
        command.Parameters.Add(PostgreSqlDatabase.Texts(numbers.Select(number => number.ToString(CultureInfo.InvariantCulture))));
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        var guards = new Dictionary<uint, List<GuardState>>();
        while (await reader.ReadAsync(cancellation))
        {
            // A definition is null where the object goes at this moment; the next look finds that it is gone.
            var text = await reader.IsDBNullAsync(3, cancellation) ? "" : reader.GetString(3);
            var guard = new GuardState(reader.GetFieldValue<uint>(1), reader.GetString(2), text);
            if (!guards.TryAdd(reader.GetFieldValue<uint>(0), [guard]))
            {
                guards[reader.GetFieldValue<uint>(0)].Add(guard);
            }
        }

        return guards;
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
