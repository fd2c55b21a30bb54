using Npgsql;
using Vestige.Connectors.PostgreSql.Loading;
using Vestige.Connectors.PostgreSql.Log;
using Vestige.Connectors.PostgreSql.Readiness;
using Vestige.Connectors.PostgreSql.Targets;
using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Readiness;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Core.Treatments;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Structures;

namespace Vestige.Connectors.PostgreSql;

/// <summary>A database written as a target. Tables keep their schema and name.</summary>
public sealed class PostgreSqlTarget(PostgreSqlSettings settings, TimeProvider clock)
    : PostgreSqlDatabase(settings, clock),
        ITableTarget,
        ITargetViews,
        ISchemaEditor,
        ITableUndo,
        IRowReplacement,
        IStructureBuilder
{
    public IReadOnlySet<string> TakenForms { get; } = new HashSet<string> { CopyFormat.Text, CopyFormat.Binary };

    public TableName NameFor(TableName source) => source;

    public IReadOnlyList<string> StatementsFor(SchemaEdit edit) => TableEdit.StatementsFor(edit);

    public Task EditAsync(ITargetTransaction transaction, SchemaEdit edit, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(edit);
        ArgumentNullException.ThrowIfNull(transaction);
        return OwnOf(transaction).ChangeAsync(edit, cancellation);
    }

    public Task<IReadOnlyList<string>> GrowTypesAsync(TableSchema table, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(table);
        return UseAsync<IReadOnlyList<string>>(
            $"Adding labels to types of {table.Name}",
            async (connection, stop) =>
            {
                var run = new List<string>();
                foreach (var part in table.Objects.Where(part => part.Stage == SchemaStage.Before))
                {
                    run.AddRange(await TargetTypes.GrowAsync(connection, part, stop));
                }

                return run;
            },
            cancellation
        );
    }

    public Task<IReadOnlyList<MissingPart>> MissingAsync(IReadOnlyList<TableSchema> tables, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(tables);
        var names = tables.Select(table => table.Name).ToHashSet();
        return UseAsync<IReadOnlyList<MissingPart>>(
            "Reading indexes and constraints",
            async (connection, stop) =>
            {
                var missing = new List<MissingPart>();
                foreach (var table in tables)
                {
                    missing.AddRange(await MissingParts.OfAsync(connection, table, names, stop));
                }

                return missing;
            },
            cancellation
        );
    }

    /// <summary>
    /// As <see cref="IStructureBuilder.BuildAsync"/> says. A statement that has to lock the table waits two seconds for it at most: while
    /// it waits, everybody who comes later waits behind it (PostgreSQL manual, Explicit Locking).
    /// </summary>
    public async Task BuildAsync(MissingPart part, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(part);
        var connection = await OpenAsync(cancellation);
        try
        {
            foreach (var statement in await MissingParts.LeftBehindAsync(connection, part, cancellation))
            {
                await RunAsync(connection, statement, cancellation);
            }

            await RunAsync(connection, "SET maintenance_work_mem = '256MB'", cancellation);
            foreach (var statement in part.Statements)
            {
                // What builds concurrently waits for transactions that are open, which is no lock that others wait behind.
                var limit = statement.Contains(" CONCURRENTLY ", StringComparison.Ordinal) ? "0" : "2s";
                await RunAsync(connection, $"SET lock_timeout = '{limit}'", cancellation);
                await RunAsync(connection, statement, cancellation);
            }
        }
        catch (Exception exception) when (Failures.IsServers(exception))
        {
            throw Failures.Of(exception, $"Building {part.Name} of {part.Table} in {Endpoint}");
        }
        finally
        {
            await Closing.CloseAsync(connection);
        }
    }

    private static async Task RunAsync(NpgsqlConnection connection, string statement, CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand(statement, connection) { CommandTimeout = 0 };
        await command.ExecuteNonQueryAsync(cancellation);
    }

    public string DropStatementFor(TableName table) => $"DROP TABLE {Quote.Name(table)}";

    public Task DropAsync(ITargetTransaction transaction, IReadOnlyList<TableName> tables, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(transaction);
        return OwnOf(transaction).DropTablesAsync(tables, cancellation);
    }

    public string PlaceOf(string id) => UndoSchema.NameOf(id);

    public Task TakeAwayAsync(
        ITargetTransaction transaction,
        string id,
        IReadOnlyList<TableName> tables,
        CancellationToken cancellation
    )
    {
        ArgumentNullException.ThrowIfNull(transaction);
        return OwnOf(transaction).TakeAwayAsync(id, tables, cancellation);
    }

    public Task<IReadOnlyList<string>> FindAsync(string id, CancellationToken cancellation) =>
        UseAsync("Looking for kept tables", (connection, stop) => UndoSchema.FindAsync(connection, id, stop), cancellation);

    public Task PutBackAsync(string id, string schema, CancellationToken cancellation) =>
        UseAsync(
            "Restoring tables",
            async (connection, stop) =>
            {
                await UndoSchema.PutBackAsync(connection, id, schema, stop);
                return true;
            },
            cancellation
        );

    public Task DropAsync(string id, CancellationToken cancellation) =>
        UseAsync(
            "Dropping kept tables",
            async (connection, stop) =>
            {
                await UndoSchema.DropAsync(connection, id, stop);
                return true;
            },
            cancellation
        );

    public TableSchema BesideOf(string crossing, TableSchema table) => RowsBeside.Of(crossing, table);

    public Task MakeBesideAsync(ITargetTransaction transaction, TableSchema beside, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(transaction);
        return new RowsBeside(OwnOf(transaction)).MakeAsync(beside, cancellation);
    }

    public Task<ReplacedRows> ReplaceAsync(
        ITargetTransaction transaction,
        TableSchema table,
        TableSchema beside,
        long rows,
        CancellationToken cancellation
    )
    {
        ArgumentNullException.ThrowIfNull(transaction);
        return new RowsBeside(OwnOf(transaction)).ReplaceAsync(table, beside, rows, cancellation);
    }

    private static PostgreSqlTargetTransaction OwnOf(ITargetTransaction transaction) => (PostgreSqlTargetTransaction)transaction.Own;

    public TargetStructure StructureOf(IReadOnlyList<TableTreatment> treatments) => new TargetStructureBuilder(treatments).Build();

    public IReadOnlyList<StructureStatement> StructureFor(IReadOnlyList<TableSchema> tables)
    {
        ArgumentNullException.ThrowIfNull(tables);
        var chosen = tables.Select(table => table.Name).ToHashSet();
        return
        [
            .. tables
                .SelectMany(table => table.Objects.Select(part => (Table: table, Part: part)))
                .Where(pair => pair.Part.Statement.Length > 0 && (pair.Part.References is not { } needed || chosen.Contains(needed)))
                .OrderBy(pair => pair.Part.Stage)
                .Select(pair =>
                    pair.Part.Stage == SchemaStage.Table
                        ? new StructureStatement(pair.Table.Statement ?? pair.Part.Statement, pair.Table.Name)
                        : new StructureStatement(pair.Part.Statement)
                )
                .Distinct(),
        ];
    }

    public Task<IReadOnlyList<ReadinessCheck>> CheckTargetAsync(
        IReadOnlyList<TableSchema> tables,
        IReadOnlyDictionary<TableName, ExistingRows> existing,
        IReadOnlySet<TableName> begun,
        CancellationToken cancellation
    ) =>
        UseAsync(
            "Checking",
            (connection, stop) => TargetReadiness.CheckAsync(connection, this, tables, existing, begun, stop),
            cancellation
        );

    public string StatementFor(TableSchema table, RowChange change)
    {
        ArgumentNullException.ThrowIfNull(table);
        var statements = new TableStatements(table);
        return change.Kind switch
        {
            ChangeKind.Insert => statements.Insert,
            ChangeKind.Truncate => statements.Empty,
            _ when !table.HasKey => WholeRowWriter.CommandFor(table, change).CommandText,
            ChangeKind.Delete => statements.Delete,
            _ => statements.Update([.. statements.Others.Where(i => change.After.KindAt(i) != ValueKind.Absent)]),
        };
    }

    public Task<TargetProgress> ReadProgressAsync(string crossing, CancellationToken cancellation) =>
        UseAsync("Reading the progress", (connection, stop) => ProgressStore.ReadAsync(connection, crossing, stop), cancellation);

    public async Task<IRowsView> OpenViewAsync(string crossing, CancellationToken cancellation) =>
        await PostgreSqlView.OfTargetAsync(this, crossing, cancellation);

    public async Task<ITargetSession> OpenSessionAsync(string crossing, long term, CancellationToken cancellation)
    {
        var connection = await OpenAsync(cancellation);
        try
        {
            await MakeProgressAsync(connection, cancellation);
            await TakeOverAsync(connection, crossing, term, cancellation);
            var plain = await MayReplicateAsync(connection, cancellation);
            return new PostgreSqlTargetSession(
                this,
                connection,
                crossing,
                term,
                await ProgressStore.ReadAsync(connection, crossing, cancellation),
                plain,
                await RouteMessage.IsPossibleAsync(connection, cancellation)
            );
        }
        catch (Exception exception) when (Failures.IsServers(exception))
        {
            await Closing.CloseAsync(connection);
            throw Failures.Of(exception, $"Taking {crossing} over in {Endpoint}");
        }
        catch
        {
            await Closing.CloseAsync(connection);
            throw;
        }
    }

    public Task ForgetAsync(string crossing, CancellationToken cancellation) =>
        UseAsync(
            "Forgetting the progress",
            async (connection, stop) =>
            {
                if (await ProgressStore.IsThereAsync(connection, stop))
                {
                    await using var command = new NpgsqlCommand("DELETE FROM vestige.progress WHERE crossing = $1", connection);
                    command.Parameters.AddWithValue(crossing);
                    await command.ExecuteNonQueryAsync(stop);
                    await RowsBeside.DropAsync(connection, crossing, stop);
                }

                return true;
            },
            cancellation
        );

    /// <summary>
    /// Whether triggers and references may be left aside, as the server's own replication does: the rows come from a
    /// database in which they held.
    /// </summary>
    internal static async Task<bool> MayReplicateAsync(NpgsqlConnection connection, CancellationToken cancellation)
    {
        try
        {
            await using var command = new NpgsqlCommand("SET session_replication_role = replica", connection);
            await command.ExecuteNonQueryAsync(cancellation);
            return true;
        }
        catch (PostgresException exception) when (exception.SqlState == "42501")
        {
            return false;
        }
    }

    private static async Task MakeProgressAsync(NpgsqlConnection connection, CancellationToken cancellation)
    {
        if (await ProgressStore.IsCurrentAsync(connection, cancellation))
        {
            return;
        }

        foreach (var statement in ProgressStore.Make)
        {
            await using var command = new NpgsqlCommand(statement, connection);
            await command.ExecuteNonQueryAsync(cancellation);
        }
    }

    /// <summary>The row is locked whole first: raising the term alone would not wait for writers that stand beside the worker.</summary>
    private async Task TakeOverAsync(NpgsqlConnection connection, string crossing, long term, CancellationToken cancellation)
    {
        await using var batch = new NpgsqlBatch(connection);
        batch.BatchCommands.Add(new NpgsqlBatchCommand("BEGIN"));
        var hold = new NpgsqlBatchCommand("SELECT FROM vestige.progress WHERE crossing = $1 FOR UPDATE");
        hold.Parameters.Add(Text(crossing));
        batch.BatchCommands.Add(hold);
        var raise = new NpgsqlBatchCommand(
            """
            INSERT INTO vestige.progress (crossing, epoch) VALUES ($1, $2)
            ON CONFLICT (crossing) DO UPDATE SET epoch = excluded.epoch WHERE vestige.progress.epoch < excluded.epoch
            """
        );
        raise.Parameters.AddWithValue(crossing);
        raise.Parameters.AddWithValue(term);
        batch.BatchCommands.Add(raise);
        batch.BatchCommands.Add(new NpgsqlBatchCommand("COMMIT"));
        await batch.ExecuteNonQueryAsync(cancellation);
        if (raise.Rows == 0)
        {
            await using var present = new NpgsqlCommand("SELECT epoch FROM vestige.progress WHERE crossing = $1", connection);
            present.Parameters.AddWithValue(crossing);
            throw new FencedException($"A worker with a later term than {term} is at work on {crossing} in {Endpoint}.")
            {
                Transient = true,
                Term = await present.ExecuteScalarAsync(cancellation) as long? ?? 0,
            };
        }
    }
}
