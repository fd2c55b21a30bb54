using Npgsql;
using Vestige.Connectors.PostgreSql.Log;
using Vestige.Core.Positions;
using Vestige.Core.Routes;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.PostgreSql.Targets;

/// <summary>
/// One worker's hold on a target: one connection, one transaction at a time. The crossing's row is locked through each
/// transaction: so that only one can move the position, while any number may write rows of a load beside it. A successor
/// locks the row against both, and so waits for them.
/// </summary>
internal sealed class PostgreSqlTargetSession(
    PostgreSqlTarget target,
    NpgsqlConnection connection,
    string crossing,
    long term,
    TargetProgress progress,
    bool leavesTriggersAside,
    bool tellsRoutes,
    bool beside = false
) : ITargetSession
{
    public TargetProgress Progress { get; internal set; } = progress;

    public void Match(IReadOnlyList<LogBranch> branches) => Progress = Progress.Match(branches);

    public void Learn(IReadOnlyList<TableProgress> tables) => Progress = Progress.With(new ProgressUpdate(null, tables));

    public string Crossing => crossing;

    public PostgreSqlTarget Target => target;

    public NpgsqlConnection Connection => connection;

    /// <summary>Whether triggers and references are left aside.</summary>
    public bool LeavesTriggersAside => leavesTriggersAside;

    /// <summary>Staging tables that this connection has, by the table they are for.</summary>
    public Dictionary<TableName, Staging> Stagings { get; } = [];

    /// <summary>Tables whose form was compared with that of the changes.</summary>
    public HashSet<TableSchema> Compared { get; } = new(ReferenceEqualityComparer.Instance);

    private int stagings;

    /// <summary>A number for a staging table.</summary>
    public int NextStaging() => ++stagings;

    /// <summary>By the server's own view of its sessions. Of others' statements nothing is told: they may hold values.</summary>
    public Task<string?> WhyWaitingAsync(CancellationToken cancellation) =>
        target.UseAsync(
            "Asking what a session waits for",
            async (beside, stop) =>
            {
                await using var command = new NpgsqlCommand(
                    """
                    SELECT coalesce(a.wait_event_type, ''), coalesce(a.wait_event, ''), b.pid, b.usename, b.state, extract(epoch
                        FROM clock_timestamp() - b.xact_start)::float8
                    FROM pg_stat_activity a LEFT JOIN pg_stat_activity b ON b.pid = ANY (pg_blocking_pids(a.pid))
                    WHERE a.pid = $1 LIMIT 1
                    """,
                    beside
                );
                command.Parameters.Add(new NpgsqlParameter { Value = connection.ProcessID });
                await using var reader = await command.ExecuteReaderAsync(stop);
                if (!await reader.ReadAsync(stop))
                {
                    return null;
                }

                if (!await reader.IsDBNullAsync(2, stop))
                {
                    var since = await reader.IsDBNullAsync(5, stop)
                        ? ""
                        : $", its transaction open for {Figures.Duration(TimeSpan.FromSeconds(reader.GetDouble(5)))}";
                    return $"it waits for a lock held by session {reader.GetInt32(2)} "
                        + $"({(await reader.IsDBNullAsync(3, stop) ? "?" : reader.GetString(3))}, "
                        + $"{(await reader.IsDBNullAsync(4, stop) ? "?" : reader.GetString(4))}{since})";
                }

                return reader.GetString(0) is { Length: > 0 } type and not "Client"
                    ? $"the server waits on {type} {reader.GetString(1)}"
                    : null;
            },
            cancellation
        );

    public async Task<ITargetTransaction> BeginAsync(bool checkReferences, Route route, CancellationToken cancellation)
    {
        try
        {
            await using var batch = new NpgsqlBatch(connection);
            batch.BatchCommands.Add(new NpgsqlBatchCommand("BEGIN"));
            var look = new NpgsqlBatchCommand(
                "SELECT epoch, position, server, timeline FROM vestige.progress WHERE crossing = $1 FOR "
                    + $"{(beside ? "KEY SHARE" : "NO KEY UPDATE")}"
            );
            look.Parameters.Add(PostgreSqlDatabase.Text(crossing));
            batch.BatchCommands.Add(look);
            if (tellsRoutes && !route.IsNone)
            {
                batch.BatchCommands.Add(RouteMessage.Telling(route));
            }

            await using (var reader = await batch.ExecuteReaderAsync(cancellation))
            {
                await ExpectAsync(reader, cancellation);
            }

            return new PostgreSqlTargetTransaction(this);
        }
        catch (FencedException)
        {
            await Closing.RollBackAsync(connection);
            throw;
        }
        catch (Exception exception) when (Failures.IsServers(exception))
        {
            throw Failures.Of(exception, $"Beginning a transaction in {target.Endpoint}");
        }
    }

    public async Task<ITargetSession?> OpenBesideAsync(CancellationToken cancellation)
    {
        var another = await target.OpenAsync(cancellation);
        try
        {
            var plain = await PostgreSqlTarget.MayReplicateAsync(another, cancellation);
            return new PostgreSqlTargetSession(target, another, crossing, term, Progress, plain, tellsRoutes, beside: true);
        }
        catch (Exception exception) when (Failures.IsServers(exception))
        {
            await Closing.CloseAsync(another);
            throw Failures.Of(exception, $"Opening another writer in {target.Endpoint}");
        }
    }

    public async Task BuildKeysAsync(TableSchema table, CancellationToken cancellation)
    {
        await BuildAsync(table, [SchemaStage.PrimaryKey, SchemaStage.Key, SchemaStage.Index], cancellation);

        // A small sample is enough for what is applied next; the full one takes a tenth of a load, and the server takes it by itself later.
        await RunAsync(
            $"SET default_statistics_target = 10; ANALYZE {Quote.Name(table.Name)}; RESET default_statistics_target",
            $"Analysing {table.Name}",
            cancellation
        );
    }

    public Task BuildPrimaryKeyAsync(TableSchema table, CancellationToken cancellation) =>
        BuildAsync(table, [SchemaStage.PrimaryKey], cancellation);

    public async Task BuildReferencesAsync(IReadOnlyList<TableSchema> tables, CancellationToken cancellation)
    {
        var chosen = tables.Select(table => table.Name).ToHashSet();
        foreach (var table in tables)
        {
            var present = await PresentAsync(table.Name, cancellation);
            foreach (
                var part in table.Objects.Where(part =>
                    part.Stage == SchemaStage.Reference && !present.Contains(part.Name) && chosen.Contains(part.References!.Value)
                )
            )
            {
                await RunAsync(part.Statement, $"Building {part.Name} of {table.Name}", cancellation);
            }
        }
    }

    public ValueTask DisposeAsync() => Closing.CloseAsync(connection);

    private async Task BuildAsync(TableSchema table, IReadOnlyList<SchemaStage> stages, CancellationToken cancellation)
    {
        var present = await PresentAsync(table.Name, cancellation);
        if (
            table.Objects.FirstOrDefault(part => part.Stage == SchemaStage.PrimaryKey) is { } key
            && stages.Contains(SchemaStage.PrimaryKey)
            && !present.Contains(key.Name)
            && (await PrimaryKeyAsync(table.Name, cancellation)).SequenceEqual(key.Columns)
        )
        {
            // Someone else made the table, and called its key otherwise.
            present.Add(key.Name);
        }

        await RunAsync("SET maintenance_work_mem = '256MB'", "Making room for sorting", cancellation);
        foreach (
            var part in table.Objects.Where(part => stages.Contains(part.Stage) && !present.Contains(part.Name)).OrderBy(part => part.Stage)
        )
        {
            await RunAsync(part.Statement, $"Building {part.Name} of {table.Name}", cancellation);
        }
    }

    private async Task ExpectAsync(NpgsqlDataReader reader, CancellationToken cancellation)
    {
        if (!await reader.ReadAsync(cancellation))
        {
            throw new FencedException($"The progress of {crossing} was removed from {target.Endpoint}.") { Transient = true };
        }

        long? position = reader.IsDBNull(1) ? null : reader.GetInt64(1);
        var log = reader.IsDBNull(2) ? null : new LogIdentity(reader.GetString(2), reader.GetInt64(3));
        var moved = !beside && (position != (long?)Progress.Position?.Offset || log != Progress.Identity);
        if (reader.GetInt64(0) != term || moved)
        {
            throw new FencedException(
                $"The worker with term {term} has been succeeded by term {reader.GetInt64(0)}, or the position moved."
            )
            {
                Transient = true,
            };
        }
    }

    private async Task<IReadOnlyList<string>> PrimaryKeyAsync(TableName table, CancellationToken cancellation)
    {
        try
        {
            return await PrimaryKey.OfAsync(connection, table, cancellation);
        }
        catch (Exception exception) when (Failures.IsServers(exception))
        {
            throw Failures.Of(exception, $"Reading the key of {table} in {target.Endpoint}");
        }
    }

    /// <summary>The names of the constraints and indexes that the table has.</summary>
    private async Task<HashSet<string>> PresentAsync(TableName table, CancellationToken cancellation)
    {
        const string Sql = """
            SELECT conname::text FROM pg_constraint WHERE conrelid = to_regclass($1)
            UNION SELECT x.relname::text FROM pg_index i JOIN pg_class x ON x.oid = i.indexrelid
                WHERE i.indrelid = to_regclass($1) AND i.indisvalid
            """;
        await using var command = new NpgsqlCommand(Sql, connection);
        command.Parameters.Add(PostgreSqlDatabase.Text(Quote.Name(table)));
        try
        {
            await using var reader = await command.ExecuteReaderAsync(cancellation);
            var names = new HashSet<string>();
            while (await reader.ReadAsync(cancellation))
            {
                names.Add(reader.GetString(0));
            }

            return names;
        }
        catch (Exception exception) when (Failures.IsServers(exception))
        {
            throw Failures.Of(exception, $"Reading the keys of {table} in {target.Endpoint}");
        }
    }

    private async Task RunAsync(string statement, string what, CancellationToken cancellation)
    {
        try
        {
            await using var command = new NpgsqlCommand(statement, connection);
            await command.ExecuteNonQueryAsync(cancellation);
        }
        catch (Exception exception) when (Failures.IsServers(exception))
        {
            throw Failures.Of(exception, $"{what} in {target.Endpoint}");
        }
    }
}
