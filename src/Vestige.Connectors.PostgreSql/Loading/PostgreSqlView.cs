using System.Globalization;
using System.Numerics;
using System.Runtime.CompilerServices;
using Npgsql;
using Vestige.Connectors.PostgreSql.Catalogue;
using Vestige.Connectors.PostgreSql.Targets;
using Vestige.Connectors.PostgreSql.Wire;
using Vestige.Core.Changes;
using Vestige.Core.Positions;
using Vestige.Core.Reconciling;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.PostgreSql.Loading;

/// <summary>
/// One read-only transaction and a line beside it that shows the same, for copies. Digests are computed in the server: the hash of
/// a row is md5 of the row as the server itself writes it, under the settings that all connections have.
/// </summary>
internal sealed class PostgreSqlView : IRowsView
{
    private const int FoundAtOnce = 5000;

    /// <summary>A sample is of whole pages; of few of them it would hold too many rows that stand together, or none.</summary>
    private const int PagesToSample = 5000;

    private readonly PostgreSqlDatabase database;
    private readonly NpgsqlConnection connection;
    private readonly ReplicationLink link;
    private readonly Dictionary<TableName, bool> plain = [];

    private PostgreSqlView(
        PostgreSqlDatabase database,
        NpgsqlConnection connection,
        ReplicationLink link,
        LogPosition? position,
        TargetProgress progress
    )
    {
        (this.database, this.connection, this.link) = (database, connection, link);
        (Position, Progress) = (position, progress);
    }

    public LogPosition? Position { get; }

    public TargetProgress Progress { get; }

    public bool Digests => true;

    /// <summary>A source's view: exactly what the log holds up to the place of a slot that is made for it and goes at once.</summary>
    public static async Task<PostgreSqlView> OfSourceAsync(PostgreSqlSource source, int branch, CancellationToken cancellation)
    {
        await using var maker = await ReplicationLink.OpenAsync(source.Settings, cancellation);
        var slot = (
            await maker.QueryAsync(
                $"CREATE_REPLICATION_SLOT {Quote.Name($"vestige_compare_{Guid.NewGuid():N}")} TEMPORARY LOGICAL pgoutput EXPORT_SNAPSHOT",
                cancellation
            )
        )[0];
        return await OpenAsync(
            source,
            await source.OpenAsync(cancellation),
            slot[2],
            Lsn.Of(slot[1]!).On(branch),
            _ => Task.FromResult(TargetProgress.None),
            cancellation
        );
    }

    /// <summary>A target's view, with what it knows of a crossing.</summary>
    public static async Task<PostgreSqlView> OfTargetAsync(PostgreSqlTarget target, string crossing, CancellationToken cancellation)
    {
        return await OpenAsync(
            target,
            await target.OpenAsync(cancellation),
            null,
            null,
            asked => ProgressStore.ReadAsync(asked, crossing, cancellation),
            cancellation
        );
    }

    public async Task<IReadOnlyList<TableDescription>> ReadTablesAsync(CancellationToken cancellation) =>
        await AskAsync("Reading the catalogue", () => CatalogueReader.ReadAsync(connection, cancellation));

    /// <summary>Cuts by a sample of the keys, so that a large table need not be read for it.</summary>
    public Task<IReadOnlyList<Row>> CutAsync(TableSchema table, KeySpan within, int ranges, CancellationToken cancellation) =>
        AskAsync<IReadOnlyList<Row>>($"Cutting {table.Name}", async () =>
        {
            var keys = Quote.Names(table.KeyOrdinals.Select(i => table.Columns[i].Name));
            await using var size = new NpgsqlCommand(
                $"SELECT relkind IN ('r', 'm') AND reltuples > {ranges * 60} AND relpages > {PagesToSample} FROM pg_class WHERE oid = "
                    + "to_regclass($1)",
                connection
            );
            size.Parameters.Add(PostgreSqlDatabase.Text(Quote.Name(table.Name)));
            var sample = await size.ExecuteScalarAsync(cancellation) is true
                ? $" TABLESAMPLE SYSTEM (least(100, 100.0 * {ranges * 30} / (SELECT reltuples FROM pg_catalog.pg_class WHERE oid = "
                    + $"{Quote.Literal(Quote.Name(table.Name))}::regclass))) REPEATABLE (1)"
                : "";
            return await RowsAsync(
                $"SELECT {keys} FROM (SELECT {keys}, row_number() OVER w AS vestige_row, count(*) OVER () AS vestige_rows FROM "
                    + $"{await OwnAsync(table.Name, cancellation)}{sample}{Where(table, within)} WINDOW w AS (ORDER BY {keys})) s "
                    + $"WHERE vestige_row > 1 AND (vestige_row - 1) * {ranges} / vestige_rows <> (vestige_row - 2) * {ranges} / "
                    + $"vestige_rows ORDER BY {keys}",
                [],
                cancellation
            );
        });

    public async IAsyncEnumerable<RowBlock> ReadAsync(
        TableSchema table,
        KeySpan within,
        [EnumeratorCancellation] CancellationToken cancellation
    )
    {
        var own = await AskAsync($"Looking at {table.Name}", () => OwnAsync(table.Name, cancellation));
        await link.StartAsync(
            $"COPY (SELECT {Quote.Names(table.Columns.Select(column => column.Name))} FROM {own}{Where(table, within)}) TO STDOUT",
            cancellation
        );
        var (gatherer, common, ended) = (new CopyGatherer(CopyForm.Text), new CopyTextRows(table.Columns.Count), false);
        while (!ended)
        {
            while (!ended && link.TryNext(out var message))
            {
                ended = gatherer.Take(message, link);
                if (gatherer.Full || (ended && gatherer.Rows > 0))
                {
                    yield return common.Read(gatherer.TakeBlock());
                }
            }

            if (!ended)
            {
                await link.FillAsync(TimeSpan.FromSeconds(5), cancellation);
            }
        }
    }

    public async Task<IReadOnlyList<Row>> FindAsync(TableSchema table, IReadOnlyList<Row> keys, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(table);
        ArgumentNullException.ThrowIfNull(keys);
        return await AskAsync<IReadOnlyList<Row>>($"Reading rows of {table.Name}", async () =>
        {
            var found = new List<Row>();
            foreach (var some in keys.Chunk(FoundAtOnce))
            {
                var asked = table
                    .KeyOrdinals.Select(
                        (_, i) =>
                            PostgreSqlDatabase.Texts(
                                some.Select(key => key.KindAt(i) == ValueKind.Integer ? key.DisplayAt(i) : key.TextAt(i))
                            )
                    )
                    .ToList();
                var names = table.KeyOrdinals.Select((_, i) => $"k{i}").ToList();
                var equal = string.Join(
                    " AND ",
                    table.KeyOrdinals.Select(
                        (ordinal, i) => $"t.{Quote.Name(table.Columns[ordinal].Name)} = w.k{i}::{table.Columns[ordinal].Type}"
                    )
                );
                found.AddRange(
                    await RowsAsync(
                        $"SELECT {string.Join(", ", table.Columns.Select(column => $"t.{Quote.Name(column.Name)}"))} FROM "
                            + $"{await OwnAsync(table.Name, cancellation)} t JOIN "
                            + $"unnest({string.Join(", ", asked.Select((_, i) => $"${i + 1}"))}) AS w ({string.Join(", ", names)}) ON "
                            + equal
                            + (table.Shared is { } shared ? $" AND t.{Quote.Name(shared.Column)} = {Quote.Literal(shared.Value)}" : ""),
                        asked,
                        cancellation
                    )
                );
            }

            return found;
        });
    }

    public Task<IReadOnlyList<Row>> SampleAsync(TableSchema table, int rows, CancellationToken cancellation) =>
        AskAsync<IReadOnlyList<Row>>($"Drawing rows of {table.Name}", async () =>
            await RowsAsync(
                $"SELECT {Quote.Names(table.Columns.Select(column => column.Name))} FROM "
                    + $"{await OwnAsync(table.Name, cancellation)}{Where(table, KeySpan.All)} ORDER BY random() LIMIT "
                    + $"{rows.ToString(CultureInfo.InvariantCulture)}",
                [],
                cancellation
            )
        );

    public Task<Digest[]> DigestAsync(RowShape shape, Segments segments, KeySpan within, CancellationToken cancellation) =>
        AskAsync($"Computing digests of {shape.Table.Name}", async () =>
        {
            var from = await OwnAsync(shape.Table.Name, cancellation);
            var key = segments.AreByHash ? $"md5(ROW({Columns(shape, shape.Key)})::text)" : Columns(shape, shape.Key);
            await using var command = new NpgsqlCommand(
                $"""
                SELECT {SegmentOf(
                    shape,
                    segments,
                    "k",
                    "m."
                )}, count(*), sum(('x' || left(h, 16))::bit(64)::bigint)::text, sum(('x' || right(h, 16))::bit(64)::bigint)::text
                FROM (SELECT {(segments.AreByHash ? $"{key} AS k" : key)}, md5(ROW({Columns(
                    shape,
                    shape.Columns
                )})::text) AS h FROM {from}{Where(shape.Table, within)} OFFSET 0) m GROUP BY 1
                """,
                connection
            )
            {
                CommandTimeout = 0,
            };
            Bind(command, segments);
            await using var reader = await command.ExecuteReaderAsync(cancellation);
            var digests = new Digest[segments.Count];
            while (await reader.ReadAsync(cancellation))
            {
                digests[reader.GetInt32(0)] = Digest.Of(
                    reader.GetInt64(1),
                    BigInteger.Parse(reader.GetString(2), CultureInfo.InvariantCulture),
                    BigInteger.Parse(reader.GetString(3), CultureInfo.InvariantCulture)
                );
            }

            return digests;
        });

    public async IAsyncEnumerable<HashedRow> HashesAsync(
        RowShape shape,
        Segments segments,
        IReadOnlyList<int> wanted,
        KeySpan within,
        [EnumeratorCancellation] CancellationToken cancellation
    )
    {
        var from = await AskAsync($"Looking at {shape.Table.Name}", () => OwnAsync(shape.Table.Name, cancellation));
        foreach (var span in segments.SpansOf(wanted, within))
        {
            var condition = segments.AreByHash
                ? $"{(Where(shape.Table, span).Length == 0 ? " WHERE" : " AND")} "
                    + $"{SegmentOf(shape, segments, $"md5(ROW({Columns(shape, shape.Key)})::text)", "")} = ANY (string_to_array($1, "
                    + "',')::int4[])"
                : "";
            await using var command = new NpgsqlCommand(
                $"SELECT md5(ROW({Columns(shape, shape.Columns)})::text), {Columns(shape, shape.Key)} FROM "
                    + $"{from}{Where(shape.Table, span)}{condition}",
                connection
            )
            {
                AllResultTypesAreUnknown = true,
                CommandTimeout = 0,
            };
            if (segments.AreByHash)
            {
                command.Parameters.Add(
                    new NpgsqlParameter { Value = string.Join(',', wanted), NpgsqlDbType = NpgsqlTypes.NpgsqlDbType.Text }
                );
            }

            await using var reader = await AskAsync($"Reading hashes of {shape.Table.Name}", () =>
                command.ExecuteReaderAsync(cancellation)
            );
            while (await AskAsync($"Reading hashes of {shape.Table.Name}", () => reader.ReadAsync(cancellation)))
            {
                yield return new HashedRow(
                    RowOf(reader, 1),
                    UInt128.Parse(reader.GetString(0), NumberStyles.HexNumber, CultureInfo.InvariantCulture)
                );
            }
        }
    }

    public async ValueTask DisposeAsync()
    {
        await link.DisposeAsync();
        await Closing.CloseAsync(connection);
    }

    private static async Task<PostgreSqlView> OpenAsync(
        PostgreSqlDatabase database,
        NpgsqlConnection opened,
        string? snapshot,
        LogPosition? position,
        Func<NpgsqlConnection, Task<TargetProgress>> ask,
        CancellationToken cancellation
    )
    {
        ReplicationLink? beside = null;
        try
        {
            await RunAsync(opened, "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY", cancellation);
            if (snapshot is not null)
            {
                await RunAsync(opened, $"SET TRANSACTION SNAPSHOT {Quote.Literal(snapshot)}", cancellation);
            }
            else
            {
                await using var export = new NpgsqlCommand("SELECT pg_export_snapshot()", opened);
                snapshot = (string)(await export.ExecuteScalarAsync(cancellation))!;
            }

            beside = await ReplicationLink.OpenAsync(database.Settings, replicates: false, cancellation);
            await beside.QueryAsync("BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY", cancellation);
            await beside.QueryAsync($"SET TRANSACTION SNAPSHOT {Quote.Literal(snapshot)}", cancellation);
            var progress = await ask(opened);
            return new PostgreSqlView(database, opened, beside, position ?? progress.Position, progress);
        }
        catch (Exception exception)
        {
            await (beside?.DisposeAsync() ?? ValueTask.CompletedTask);
            await Closing.CloseAsync(opened);
            if (Failures.IsServers(exception))
            {
                throw Failures.Of(exception, $"Opening a view of the rows in {database.Place}");
            }

            throw;
        }
    }

    private static async Task RunAsync(NpgsqlConnection opened, string statement, CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand(statement, opened);
        await command.ExecuteNonQueryAsync(cancellation);
    }

    private static string Columns(RowShape shape, IEnumerable<int> ordinals) =>
        Quote.Names(ordinals.Select(i => shape.Table.Columns[i].Name));

    /// <summary>The segment of a row as a whole number from 0 on.</summary>
    private static string SegmentOf(RowShape shape, Segments segments, string keyHash, string prefix)
    {
        if (segments.AreByHash)
        {
            return $"(('x' || left({keyHash}, 4))::bit(16)::int4 >> {16 - segments.Bits})";
        }

        if (segments.Bounds.Count == 0)
        {
            return "0";
        }

        var names = shape.Key.Select(i => prefix + Quote.Name(shape.Table.Columns[i].Name)).ToList();
        return names.Count == 1
            ? $"width_bucket({names[0]}::int8, string_to_array($1, ',')::int8[])"
            : $"width_bucket(ROW({string.Join(", ", names.Select(name => $"{name}::int8"))}), (SELECT "
                + $"array_agg(ROW({string.Join(", ", names.Select((_, i) => $"(string_to_array(b, '/'))[{i + 1}]::int8"))}) ORDER BY o) "
                + "FROM unnest(string_to_array($1, ',')) WITH ORDINALITY AS u (b, o)))";
    }

    private static void Bind(NpgsqlCommand command, Segments segments)
    {
        if (segments.Bounds.Count > 0)
        {
            var bounds = segments.Bounds.Select(bound => string.Join('/', Enumerable.Range(0, bound.Count).Select(bound.DisplayAt)));
            command.Parameters.Add(new NpgsqlParameter { Value = string.Join(',', bounds), NpgsqlDbType = NpgsqlTypes.NpgsqlDbType.Text });
        }
    }

    /// <summary>The rows of a span that are the table's own. Bounds are whole numbers, which need no quotes.</summary>
    private static string Where(TableSchema table, KeySpan within)
    {
        var keys = Quote.Names(table.KeyOrdinals.Select(i => table.Columns[i].Name));
        var conditions = new List<string>();
        if (table.Shared is { } shared)
        {
            conditions.Add($"{Quote.Name(shared.Column)} = {Quote.Literal(shared.Value)}");
        }

        if (!within.From.IsNone)
        {
            conditions.Add($"({keys}) >= ({Numbers(within.From)})");
        }

        if (!within.Before.IsNone)
        {
            conditions.Add($"({keys}) < ({Numbers(within.Before)})");
        }

        return conditions.Count == 0 ? "" : $" WHERE {string.Join(" AND ", conditions)}";
    }

    private static string Numbers(Row key) =>
        string.Join(
            ", ",
            Enumerable
                .Range(0, key.Count)
                .Select(i =>
                    long.Parse(key.DisplayAt(i), NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture)
                        .ToString(CultureInfo.InvariantCulture)
                )
        );

    private async Task<string> OwnAsync(TableName table, CancellationToken cancellation)
    {
        if (!plain.TryGetValue(table, out var isPlain))
        {
            await using var command = new NpgsqlCommand(
                "SELECT relkind = 'r' FROM pg_catalog.pg_class WHERE oid = to_regclass($1)",
                connection
            );
            command.Parameters.Add(PostgreSqlDatabase.Text(Quote.Name(table)));
            plain[table] = isPlain = await command.ExecuteScalarAsync(cancellation) is true;
        }

        return PostgreSqlDatabase.OwnRows(table, isPlain);
    }

    private async Task<List<Row>> RowsAsync(string select, IReadOnlyList<NpgsqlParameter> parameters, CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand(select, connection) { AllResultTypesAreUnknown = true, CommandTimeout = 0 };
        command.Parameters.AddRange(parameters.ToArray());
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        var rows = new List<Row>();
        while (await reader.ReadAsync(cancellation))
        {
            rows.Add(RowOf(reader, 0));
        }

        return rows;
    }

    private static Row RowOf(NpgsqlDataReader reader, int from)
    {
        var writer = new RowWriter();
        writer.Begin(reader.FieldCount - from);
        for (var i = from; i < reader.FieldCount; i++)
        {
            if (reader.IsDBNull(i))
            {
                writer.Null();
            }
            else
            {
                writer.Text(reader.GetString(i));
            }
        }

        return writer.ToRow();
    }

    private async Task<T> AskAsync<T>(string what, Func<Task<T>> ask)
    {
        try
        {
            return await ask();
        }
        catch (Exception exception) when (Failures.IsServers(exception))
        {
            throw Failures.Of(exception, $"{what} in {database.Place}");
        }
    }
}
