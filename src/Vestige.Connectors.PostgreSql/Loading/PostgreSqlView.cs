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
/// One read-only transaction and a line beside it that shows the same, for copies.
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

    /// <summary>The transaction that shows the rows.</summary>
    internal NpgsqlConnection Connection => connection;

    public IRowDigests Digests => new PostgreSqlDigests(this);

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
        var (gatherer, common, ended) = (new CopyGatherer(CopyFormat.Text), new CopyTextRows(table.Columns.Count), false);
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
                throw Failures.Of(exception, $"Opening a view of the rows in {database.Endpoint}");
            }

            throw;
        }
    }

    private static async Task RunAsync(NpgsqlConnection opened, string statement, CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand(statement, opened);
        await command.ExecuteNonQueryAsync(cancellation);
    }

    /// <summary>The rows of a span that are the table's own. Bounds are whole numbers, which need no quotes.</summary>
    internal static string Where(TableSchema table, KeySpan within)
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

    /// <summary>The table's own rows, as a query names them, without those of tables that inherit from it.</summary>
    internal async Task<string> OwnAsync(TableName table, CancellationToken cancellation)
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

    internal static Row RowOf(NpgsqlDataReader reader, int from)
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

    internal async Task<T> AskAsync<T>(string what, Func<Task<T>> ask)
    {
        try
        {
            return await ask();
        }
        catch (Exception exception) when (Failures.IsServers(exception))
        {
            throw Failures.Of(exception, $"{what} in {database.Endpoint}");
        }
    }
}
