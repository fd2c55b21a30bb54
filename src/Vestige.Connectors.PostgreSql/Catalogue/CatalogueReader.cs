using Npgsql;
using Vestige.Connectors.PostgreSql.Targets;
using Vestige.Connectors.PostgreSql.Watching;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.PostgreSql.Catalogue;

/// <summary>
/// Reads the forms of all tables in a handful of statements, however many tables there are. What cannot cross comes with
/// the reason.
/// </summary>
internal static class CatalogueReader
{
    private const int MostReads = 4;

    private const string Ours =
        "n.nspname NOT IN ('pg_catalog', 'information_schema', 'vestige') "
        + $"AND n.nspname !~ '^(pg_(toast|temp)|{UndoSchema.Prefix})'";

    private const string Tables = $"""
        SELECT c.oid::int8, n.nspname::text, c.relname::text, c.relkind::text, c.relpersistence::text, wn.nspname::text,
            c.relreplident::text,
               c.reltuples::float8, c.relpages::int8 * current_setting('block_size')::int8, w.relname::text,
               {TableIdentity.Shape}, {TableIdentity.Writers} || '.' || (SELECT {TableIdentity.Types})
        FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
        LEFT JOIN pg_class w ON c.relispartition AND w.oid = pg_partition_root(c.oid) LEFT JOIN pg_namespace wn ON wn.oid = w.relnamespace
        WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') AND {Ours}
        ORDER BY n.nspname, c.relname
        """;

    /// <summary>What <see cref="Tables"/> says of the columns and the key of each table.</summary>
    private const string Shapes = $"""
        SELECT c.oid::int8, {TableIdentity.Shape}
        FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
        WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') AND {Ours}
        """;

    private const string Columns = $"""
        SELECT a.attrelid::int8, a.attname::text, format_type(a.atttypid, a.atttypmod), a.attnotnull, a.attgenerated::text,
            a.attidentity::text,
               pg_get_expr(d.adbin, d.adrelid), t.typtype::text,
               CASE WHEN a.attcollation <> t.typcollation THEN quote_ident(cn.nspname) || '.' || quote_ident(co.collname) END,
               a.attnum, CASE WHEN a.attgenerated <> '' THEN ARRAY(SELECT p.refobjsubid::int2 FROM pg_depend p
                 WHERE p.classid = 'pg_attrdef'::regclass AND p.objid = d.oid AND p.refobjid = a.attrelid
                     AND p.refobjsubid NOT IN (0, a.attnum)) END,
               coalesce(d.oid, 0)::int8
        FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace
            JOIN pg_type t ON t.oid = a.atttypid
        LEFT JOIN pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum
        LEFT JOIN pg_collation co ON co.oid = a.attcollation LEFT JOIN pg_namespace cn ON cn.oid = co.collnamespace
        WHERE a.attnum > 0 AND NOT a.attisdropped AND c.relkind IN ('r', 'p', 'v', 'm', 'f') AND {Ours}
        ORDER BY a.attrelid, a.attnum
        """;

    /// <summary>
    /// The columns by which a row is found again: those of the replica identity's index where one is named, else the primary key's, unless
    /// it is deferrable: the server names no row by such a key.
    /// </summary>
    private const string Keys = $"""
        SELECT i.indrelid::int8, a.attname::text
        FROM pg_index i JOIN pg_class c ON c.oid = i.indrelid JOIN pg_namespace n ON n.oid = c.relnamespace
        CROSS JOIN LATERAL unnest(i.indkey::int2[]) WITH ORDINALITY AS k(attnum, place)
        JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.attnum
        WHERE k.place <= i.indnkeyatts AND {Ours}
          AND ((c.relreplident = 'i' AND i.indisreplident) OR (c.relreplident <> 'i' AND i.indisprimary AND i.indimmediate))
        ORDER BY i.indrelid, k.place
        """;

    private const string Constraints = $"""
        SELECT k.conrelid::int8, k.conname::text, k.contype::text, pg_get_constraintdef(k.oid), rn.nspname::text, r.relname::text,
               coalesce(k.conkey, ARRAY[]::int2[]), coalesce(k.confkey, ARRAY[]::int2[]), k.confrelid::int8,
               k.convalidated, k.oid::int8, k.conindid::int8
        FROM pg_constraint k JOIN pg_class c ON c.oid = k.conrelid JOIN pg_namespace n ON n.oid = c.relnamespace
        LEFT JOIN pg_class r ON r.oid = k.confrelid LEFT JOIN pg_namespace rn ON rn.oid = r.relnamespace
        WHERE k.contype IN ('p', 'u', 'x', 'c', 'f') AND (k.conparentid = 0 OR (c.relispartition AND k.contype IN ('p', 'u'))) AND {Ours}
        ORDER BY k.conrelid, k.conname
        """;

    private const string Indexes = $"""
        SELECT i.indrelid::int8, x.relname::text, pg_get_indexdef(i.indexrelid), i.indkey::int2[], i.indexprs IS NOT NULL
            OR i.indpred IS NOT NULL, i.indisunique, i.indexrelid::int8
        FROM pg_index i JOIN pg_class x ON x.oid = i.indexrelid JOIN pg_class c ON c.oid = i.indrelid
            JOIN pg_namespace n ON n.oid = c.relnamespace
        WHERE i.indisvalid AND {Ours} AND NOT EXISTS (SELECT 1 FROM pg_constraint k
            WHERE k.conindid = i.indexrelid AND k.contype IN ('p', 'u', 'x'))
        ORDER BY i.indrelid, x.relname
        """;

    private const string PartitionSums = $"""
        SELECT c.oid::int8, sum(greatest(l.reltuples, 0))::float8, sum(l.relpages::int8 * current_setting('block_size')::int8)::int8,
               bool_or(l.reltuples < 0),
               array_agg(quote_ident(ln.nspname) || '.' || quote_ident(l.relname)
                   ORDER BY ln.nspname, l.relname) FILTER (WHERE l.relreplident <> 'f')
        FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace CROSS JOIN LATERAL pg_partition_tree(c.oid) p
            JOIN pg_class l ON l.oid = p.relid JOIN pg_namespace ln ON ln.oid = l.relnamespace
        WHERE c.relkind = 'p' AND NOT c.relispartition AND p.isleaf AND {Ours}
        GROUP BY c.oid
        """;

    /// <summary>
    /// Several statements see several moments. A table that came or changed between the first and the last of them makes Vestige read
    /// again; one that still does so at the last reading is left to the next call, as if it had come after this one.
    /// </summary>
    public static async Task<IReadOnlyList<TableDescription>> ReadAsync(NpgsqlConnection connection, CancellationToken cancellation)
    {
        for (var read = 1; ; read++)
        {
            var before = await GroupAsync(connection, Shapes, reader => reader.GetString(1), cancellation);
            var tables = await ReadOnceAsync(connection, cancellation);
            var stable = tables.Where(table => before.TryGetValue(table.Oid, out var shape) && shape[0] == table.Shape);
            var described = stable.Select(table => table.Description).ToList();
            if (read == MostReads || described.Count == tables.Count)
            {
                return described;
            }
        }
    }

    private static async Task<List<(long Oid, string Shape, TableDescription Description)>> ReadOnceAsync(
        NpgsqlConnection connection,
        CancellationToken cancellation
    )
    {
        var needs = await ObjectNeeds.ReadAsync(connection, cancellation);
        var columns = await GroupAsync(connection, Columns, reader => ReadColumn(reader, needs), cancellation);
        var keys = await GroupAsync(connection, Keys, reader => reader.GetString(1), cancellation);
        var constraints = await GroupAsync(connection, Constraints, reader => ReadConstraint(reader, needs), cancellation);
        var indexes = await GroupAsync(connection, Indexes, reader => ReadIndex(reader, needs), cancellation);
        var sums = await GroupAsync(
            connection,
            PartitionSums,
            reader =>
                (
                    Rows: reader.GetDouble(1),
                    Bytes: reader.GetInt64(2),
                    Unknown: reader.GetBoolean(3),
                    Keyed: reader.IsDBNull(4) ? [] : reader.GetFieldValue<string[]>(4)
                ),
            cancellation
        );
        var types = await UserTypes.ReadAsync(connection, cancellation);
        var tables = new List<(long, string, TableDescription)>();
        await using var command = new NpgsqlCommand(Tables, connection);
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        while (await reader.ReadAsync(cancellation))
        {
            var oid = reader.GetInt64(0);
            var (rows, bytes, isUnknown, keyedParts) = sums.TryGetValue(oid, out var sum)
                ? sum[0]
                : (reader.GetDouble(7), reader.GetInt64(8), reader.GetDouble(7) < 0, []);
            var found = new FoundTable(
                new TableName(reader.GetString(1), reader.GetString(2)),
                reader.GetString(3)[0],
                reader.GetString(4)[0],
                reader.IsDBNull(5) ? null : new TableName(reader.GetString(5), reader.GetString(9)),
                reader.GetString(6)[0],
                columns.GetValueOrDefault(oid, []),
                keys.GetValueOrDefault(oid, []),
                constraints.GetValueOrDefault(oid, []),
                indexes.GetValueOrDefault(oid, []),
                referenced => columns.GetValueOrDefault(referenced, []),
                TableState.IncarnationOf(oid, reader.GetString(10)),
                reader.IsDBNull(11) ? "" : reader.GetString(11),
                keyedParts
            );
            var description = new TableDescription(
                found.Schema(types),
                Estimate(rows, bytes),
                bytes,
                found.Reason,
                found.PartOf,
                found.InsertsCross,
                found.WholeRowsBy
            )
            {
                HasNoRows = found.Kind is 'v' or 'm' or 'f',
                IsRowsUnknown = isUnknown,
            };
            tables.Add((oid, reader.GetString(10), description));
        }

        return tables;
    }

    /// <summary>Before a table was ever analysed the server has no count; a hundred bytes a row is taken then.</summary>
    private static long Estimate(double rows, long bytes) => rows >= 0 ? (long)rows : bytes / 100;

    private static FoundColumn ReadColumn(NpgsqlDataReader reader, ObjectNeeds needs) =>
        new(
            reader.GetString(1),
            reader.GetString(2),
            NotNull: reader.GetBoolean(3),
            Generated: reader.GetString(4).Length > 0,
            Identity: reader.GetString(5).Length > 0,
            reader.IsDBNull(6) ? null : reader.GetString(6),
            reader.GetString(7)[0],
            reader.IsDBNull(8) ? null : reader.GetString(8),
            reader.GetInt16(9),
            reader.IsDBNull(10) ? [] : reader.GetFieldValue<short[]>(10),
            [
                .. needs.OfColumn(reader.GetInt64(0), reader.GetInt16(9)),
                .. reader.GetString(4).Length > 0 ? needs.OfDefault(reader.GetInt64(11)) : [],
            ]
        );

    /// <summary>Null for one that has been dropped since the statement began.</summary>
    private static FoundConstraint? ReadConstraint(NpgsqlDataReader reader, ObjectNeeds needs) =>
        reader.IsDBNull(3)
            ? null
            : new(
                reader.GetString(1),
                reader.GetString(2)[0],
                reader.GetString(3),
                reader.IsDBNull(4) ? null : new TableName(reader.GetString(4), reader.GetString(5)),
                reader.GetFieldValue<short[]>(6),
                reader.GetFieldValue<short[]>(7),
                reader.GetInt64(8),
                reader.GetBoolean(9),
                needs.OfConstraint(reader.GetInt64(10), reader.GetInt64(11))
            );

    /// <summary>Null for one that has been dropped since the statement began.</summary>
    private static FoundIndex? ReadIndex(NpgsqlDataReader reader, ObjectNeeds needs) =>
        reader.IsDBNull(2)
            ? null
            : new(
                reader.GetString(1),
                reader.GetString(2),
                reader.GetFieldValue<short[]>(3),
                HasExpressions: reader.GetBoolean(4),
                IsUnique: reader.GetBoolean(5),
                needs.OfIndex(reader.GetInt64(6))
            );

    private static async Task<Dictionary<long, List<T>>> GroupAsync<T>(
        NpgsqlConnection connection,
        string sql,
        Func<NpgsqlDataReader, T?> read,
        CancellationToken cancellation
    )
    {
        var groups = new Dictionary<long, List<T>>();
        await using var command = new NpgsqlCommand(sql, connection);
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        while (await reader.ReadAsync(cancellation))
        {
            if (read(reader) is not { } found)
            {
                continue;
            }

            var oid = reader.GetInt64(0);
            if (!groups.TryGetValue(oid, out var group))
            {
                groups.Add(oid, group = []);
            }

            group.Add(found);
        }

        return groups;
    }
}
