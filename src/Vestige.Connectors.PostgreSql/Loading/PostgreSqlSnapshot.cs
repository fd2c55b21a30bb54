using System.Collections.Concurrent;
using System.Runtime.CompilerServices;
using Npgsql;
using Vestige.Connectors.PostgreSql.Catalogue;
using Vestige.Connectors.PostgreSql.Wire;
using Vestige.Core.Changes;
using Vestige.Core.Loading;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.PostgreSql.Loading;

/// <summary>
/// All tables as of one place in the log. A temporary slot is made and its snapshot exported: it shows exactly what the log
/// holds up to the slot's place, commits that wait for a standby included, and it comes into being only after every
/// transaction has ended that was open when a table was added to the publication. Several read-only transactions take it
/// over; then the slot goes.
/// </summary>
internal sealed class PostgreSqlSnapshot : ISourceSnapshot
{
    private readonly PostgreSqlSource source;
    private readonly List<NpgsqlConnection> all = [];
    private readonly ConcurrentBag<NpgsqlConnection> free = [];
    private readonly List<ReplicationLink> allLinks = [];
    private readonly ConcurrentBag<ReplicationLink> links = [];

    private PostgreSqlSnapshot(PostgreSqlSource source, LogPosition position, DateTimeOffset takenAt)
    {
        this.source = source;
        Position = position;
        TakenAt = takenAt;
    }

    public LogPosition Position { get; }

    public DateTimeOffset TakenAt { get; }

    public static async Task<PostgreSqlSnapshot> OpenAsync(
        PostgreSqlSource source,
        int readers,
        int branch,
        TimeProvider clock,
        CancellationToken cancellation
    )
    {
        await using var link = await ReplicationLink.OpenAsync(source.Settings, cancellation);
        var name = $"vestige_load_{Guid.NewGuid():N}";
        var slot = (
            await link.QueryAsync($"CREATE_REPLICATION_SLOT {Quote.Name(name)} TEMPORARY LOGICAL pgoutput EXPORT_SNAPSHOT", cancellation)
        )[0];
        var snapshot = new PostgreSqlSnapshot(source, Lsn.Of(slot[1]!).On(branch), clock.GetUtcNow());
        try
        {
            for (var i = 0; i < readers; i++)
            {
                await snapshot.AddReaderAsync(slot[2]!, cancellation);
            }

            return snapshot;
        }
        catch (Exception exception)
        {
            await snapshot.DisposeAsync();
            if (exception is PortException { InnerException: PostgresException { SqlState: "22023" } })
            {
                throw new PortException(
                    $"Taking the snapshot in {source.Endpoint}: the connection holding the exported snapshot closed before every reader "
                        + "had imported it.",
                    exception
                )
                {
                    Transient = true,
                    Remedy = "Check the server and the network. Vestige retries automatically.",
                };
            }

            throw;
        }
    }

    public Task<IReadOnlyList<TableDescription>> ReadTablesAsync(CancellationToken cancellation) =>
        UseAsync("Reading the catalogue", CatalogueReader.ReadAsync, cancellation);

    /// <summary>
    /// The table's file and the oldest transaction not ended at the snapshot: as long as the file is the same, a row that was
    /// not written since stands where it stood. Told by the transaction that wrote it, a sub-transaction of a later one
    /// included; what is visible cannot be asked of those.
    /// </summary>
    public Task<string?> MarkAsync(TableSchema table, CancellationToken cancellation) =>
        UseAsync(
            $"Looking at {table.Name}",
            async (connection, stop) =>
                table.HasKey && table.Objects.Any(part => part.Stage == SchemaStage.PrimaryKey)
                    ? (await TableStamp.ReadAsync(connection, table, stop))?.ToString()
                    : null,
            cancellation
        );

    public Task<IReadOnlyList<RowRange>?> CutRestAsync(
        TableSchema table,
        LoadCheckpoint part,
        int chunks,
        CancellationToken cancellation
    ) =>
        UseAsync(
            $"Cutting {table.Name}",
            async (connection, stop) =>
            {
                var now = await TableStamp.ReadAsync(connection, table, stop);
                var blocks = await BlocksAsync(connection, table, stop);
                return
                    now is not null
                    && TableStamp.Parse(part.Mark) is { } then
                    && now.GoesOnFrom(then)
                    && BlockRanges.IsWorthGoingOn(part, blocks)
                    ? BlockRanges.Rest(part, blocks, chunks)
                    : null;
            },
            cancellation
        );

    /// <summary>
    /// Cuts by the places of rows in the table's file: equal by size without reading anything, each read is one pass, and
    /// within one snapshot every visible row lies in exactly one range. Older servers would read the whole table for each.
    /// </summary>
    public Task<IReadOnlyList<KeyRange>> CutAsync(TableSchema table, int chunks, CancellationToken cancellation) =>
        UseAsync(
            $"Cutting {table.Name}",
            async (connection, stop) => BlockRanges.Cut(await BlocksAsync(connection, table, stop), chunks),
            cancellation
        );

    public async IAsyncEnumerable<RowBlock> ReadAsync(
        TableSchema table,
        RowRange range,
        IReadOnlySet<string> taken,
        [EnumeratorCancellation] CancellationToken cancellation
    )
    {
        var (isPlain, rows) = await LookAsync(table, cancellation);
        var form = taken.Contains(CopyFormat.Binary) && isPlain ? CopyFormat.Binary : CopyFormat.Text;
        if (!links.TryTake(out var link))
        {
            throw new InvalidOperationException("More reads at once than the snapshot was opened for.");
        }

        var select =
            $"COPY (SELECT {Quote.Names(table.Columns.Select(column => column.Name))} FROM {rows}{BlockRanges.Condition(range)}) TO "
            + $"STDOUT{(form == CopyFormat.Binary ? " (FORMAT binary)" : "")}";
        await link.StartAsync(select, cancellation);
        var gatherer = new CopyGatherer(form);
        var common = taken.Contains(form) ? null : new CopyTextRows(table.Columns.Count);
        for (var ended = false; !ended;)
        {
            while (link.TryNext(out var message))
            {
                ended = gatherer.Take(message, link);
                if (gatherer.Full || (ended && gatherer.Rows > 0))
                {
                    var block = gatherer.TakeBlock();
                    yield return common?.Read(block) ?? block;
                }
            }

            if (!ended)
            {
                await link.FillAsync(TimeSpan.FromSeconds(5), cancellation);
            }
        }

        // A read that was given up leaves its link in the middle of a copy; only one that ended goes back.
        links.Add(link);
    }

    public async ValueTask DisposeAsync()
    {
        foreach (var connection in all)
        {
            await Closing.CloseAsync(connection);
        }

        foreach (var link in allLinks)
        {
            await link.DisposeAsync();
        }
    }

    /// <summary>The blocks of a table's file; 0 where ranges of them cannot be read without reading the whole.</summary>
    private static async Task<long> BlocksAsync(NpgsqlConnection connection, TableSchema table, CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand(
            $"SELECT CASE WHEN relkind = 'r' AND current_setting('server_version_num')::int4 >= {TableStamp.TidRangeVersion} THEN "
                + "pg_relation_size(oid) / current_setting('block_size')::int8 ELSE 0 END FROM pg_class WHERE oid = to_regclass($1)",
            connection
        );
        command.Parameters.Add(PostgreSqlDatabase.Text(Quote.Name(table.Name)));
        return await command.ExecuteScalarAsync(cancellation) as long? ?? 0;
    }

    /// <summary>Whether every column is of a type whose binary form means the same on every server, and how the table is read.</summary>
    private Task<(bool IsPlain, string Rows)> LookAsync(TableSchema table, CancellationToken cancellation) =>
        UseAsync(
            $"Looking at {table.Name}",
            async (connection, stop) =>
            {
                await using var command = new NpgsqlCommand(
                    $"""
                    SELECT NOT EXISTS (SELECT 1 FROM pg_attribute
                        WHERE attrelid = c.oid AND attnum > 0 AND NOT attisdropped
                            AND atttypid NOT IN ({CopyFormat.PlainTypes})), c.relkind = 'r'
                    FROM pg_class c WHERE c.oid = to_regclass($1)
                    """,
                    connection
                );
                command.Parameters.Add(PostgreSqlDatabase.Text(Quote.Name(table.Name)));
                await using var reader = await command.ExecuteReaderAsync(stop);
                return await reader.ReadAsync(stop)
                    ? (reader.GetBoolean(0), PostgreSqlDatabase.OwnRows(table.Name, reader.GetBoolean(1)))
                    : (false, Quote.Name(table.Name));
            },
            cancellation
        );

    private async Task AddReaderAsync(string exported, CancellationToken cancellation)
    {
        var connection = await source.OpenAsync(cancellation);
        all.Add(connection);
        try
        {
            await using var begin = new NpgsqlCommand("BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY", connection);
            await begin.ExecuteNonQueryAsync(cancellation);
            await using var take = new NpgsqlCommand($"SET TRANSACTION SNAPSHOT {Quote.Literal(exported)}", connection);
            await take.ExecuteNonQueryAsync(cancellation);
        }
        catch (Exception exception) when (Failures.IsServers(exception))
        {
            throw Failures.Of(exception, $"Taking the snapshot in {source.Endpoint}");
        }

        free.Add(connection);
        var link = await ReplicationLink.OpenAsync(source.Settings, replicates: false, cancellation);
        allLinks.Add(link);
        await link.QueryAsync("BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY", cancellation);
        await link.QueryAsync($"SET TRANSACTION SNAPSHOT {Quote.Literal(exported)}", cancellation);
        links.Add(link);
    }

    private async Task<T> UseAsync<T>(string what, Func<NpgsqlConnection, CancellationToken, Task<T>> ask, CancellationToken cancellation)
    {
        var connection = Take();
        try
        {
            return await ask(connection, cancellation);
        }
        catch (Exception exception) when (Failures.IsServers(exception))
        {
            throw Failures.Of(exception, $"{what} in {source.Endpoint}");
        }
        finally
        {
            free.Add(connection);
        }
    }

    private NpgsqlConnection Take() =>
        free.TryTake(out var connection)
            ? connection
            : throw new InvalidOperationException("More reads at once than the snapshot was opened for.");
}
