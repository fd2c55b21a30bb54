using Npgsql;
using Vestige.Core.Applying;
using Vestige.Core.Changes;
using Vestige.Core.Folding;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.PostgreSql.Targets;

/// <summary>
/// One transaction on a target. A small batch goes as prepared statements, one a row, in one round trip; a larger one is
/// copied into staging tables and merged. Deletes come first, children before parents, then updates, then inserts, parents
/// before children.
/// </summary>
internal sealed class PostgreSqlTargetTransaction(PostgreSqlTargetSession session) : ITargetTransaction
{
    private const int RowsOneByOne = 40;
    private StagingTables? stagings;
    private readonly Dictionary<TableSchema, TableStatements> statements = new(ReferenceEqualityComparer.Instance);
    private LoadingCopy? loading;
    private bool done;
    private bool marked;

    private NpgsqlConnection Connection => session.Connection;

    /// <summary>The tables through which larger batches pass.</summary>
    internal StagingTables Stagings => stagings ??= new StagingTables(this, session);

    /// <summary>Whether triggers and references are left aside.</summary>
    internal bool LeavesTriggersAside => session.LeavesTriggersAside;

    public Task CreateTablesAsync(IReadOnlyList<TableSchema> tables, TableMaking making, CancellationToken cancellation) =>
        new TableMaker(this, Connection, session.Target.Endpoint, OwnTables).MakeAsync(tables, making, cancellation);

    /// <summary>Drops tables that are there.</summary>
    internal Task DropTablesAsync(IReadOnlyList<TableName> tables, CancellationToken cancellation) =>
        new TableMaker(this, Connection, session.Target.Endpoint, OwnTables).DropAsync(tables, cancellation);

    /// <summary>Takes tables of one schema away, to be restored.</summary>
    internal Task TakeAwayAsync(string id, IReadOnlyList<TableName> tables, CancellationToken cancellation) =>
        new TableMaker(this, Connection, session.Target.Endpoint, OwnTables).TakeAwayAsync(id, tables, cancellation);

    private HashSet<TableName> OwnTables => [.. session.Progress.Tables.SelectMany(table => table.IntoTables ?? [table.Table])];

    /// <summary>Truncating is refused by the server where other tables refer to this one; then its rows are deleted.</summary>
    public async Task EmptyAsync(TableSchema table, CancellationToken cancellation)
    {
        if (table.Shared is { } shared)
        {
            await EmptyAsync(table, shared, cancellation);
            return;
        }

        var referenced = await IsThereAsync(
            "(SELECT min(conrelid) FROM pg_constraint WHERE contype = 'f' AND confrelid = "
                + $"{Quote.Literal(Quote.Name(table.Name))}::regclass)",
            cancellation
        );
        await RunAsync(referenced ? Of(table).Empty : $"TRUNCATE {Quote.Name(table.Name)}", $"Emptying {table.Name}", cancellation);
    }

    private async Task EmptyAsync(TableSchema table, SharedRows shared, CancellationToken cancellation)
    {
        try
        {
            await using var command = new NpgsqlCommand(
                $"DELETE FROM {Quote.Name(table.Name)} WHERE {Quote.Name(shared.Column)} = $1",
                Connection
            );
            command.Parameters.Add(PostgreSqlDatabase.Text(shared.Value));
            await command.ExecuteNonQueryAsync(cancellation);
        }
        catch (Exception exception) when (Failures.IsServers(exception))
        {
            throw Failures.Of(exception, $"Emptying {table.Name} of what came from {shared.Value} in {session.Target.Endpoint}");
        }
    }

    public Task LoadAsync(TableSchema table, RowBlock block, CancellationToken cancellation) =>
        LoadAsync(table, merging: false, block, cancellation);

    public Task MergeAsync(TableSchema table, RowBlock block, CancellationToken cancellation) =>
        LoadAsync(table, merging: true, block, cancellation);

    private async Task LoadAsync(TableSchema table, bool merging, RowBlock block, CancellationToken cancellation)
    {
        try
        {
            if (loading is null || !loading.Takes(table, merging, block.Encoding))
            {
                await EndLoadingAsync(cancellation);
                var staging = merging ? await Stagings.ForAsync(table, cancellation) : null;
                loading = await LoadingCopy.BeginAsync(Connection, table, staging, block.Encoding, cancellation);
            }

            await loading.WriteAsync(block.Rows, cancellation);
        }
        catch (PostgresException exception) when (Failures.IsRefusal(exception))
        {
            throw Refused(table.Name, ChangeKind.Insert, "", exception);
        }
        catch (Exception exception) when (Failures.IsServers(exception))
        {
            throw Failures.Of(exception, $"Copying rows of {table.Name} to {session.Target.Endpoint}");
        }
    }

    public async Task<IReadOnlyDictionary<TableName, ApplyCounts>> ApplyAsync(
        IReadOnlyList<FoldedTable> tables,
        CancellationToken cancellation
    )
    {
        var order = Ordered(tables);
        foreach (var folded in order)
        {
            await CompareAsync(folded.Table, cancellation);
        }

        foreach (var folded in order.Reverse().Where(folded => folded.EmptiedFirst))
        {
            await EmptyAsync(folded.Table, cancellation);
        }

        var writer =
            order.Sum(folded => folded.Rows.Count) <= RowsOneByOne ? (IBatchWriter)new RowWriterOneByOne(this) : new StagedWriter(this);
        return await writer.WriteAsync(order, cancellation);
    }

    public async Task<ApplyCounts> ApplyAsync(TableSchema table, RowChange change, CancellationToken cancellation)
    {
        await CompareAsync(table, cancellation);
        if (change.Kind == ChangeKind.Truncate)
        {
            await EmptyAsync(table, cancellation);
            return default;
        }

        if (!table.HasKey && change.Kind is ChangeKind.Update or ChangeKind.Delete)
        {
            return await new WholeRowWriter(this).WriteAsync(table, change, cancellation);
        }

        var moves =
            change.Kind == ChangeKind.Update
            && !change.Before.IsNone
            && RowKey.Of(change.Before, table.KeyOrdinals) != RowKey.Of(change.After, table.KeyOrdinals);
        return await new RowWriterOneByOne(this).WriteAsync(
            Of(table),
            table,
            new FoldedRow(change.Kind, change.Before, change.After),
            moves,
            cancellation
        );
    }

    public async Task SavepointAsync(CancellationToken cancellation)
    {
        await RunAsync(marked ? "RELEASE row_mark; SAVEPOINT row_mark" : "SAVEPOINT row_mark", "Marking a place", cancellation);
        marked = true;
    }

    public Task RollBackToSavepointAsync(CancellationToken cancellation) =>
        RunAsync("ROLLBACK TO row_mark", "Going back to a mark", cancellation);

    public async Task CommitAsync(ProgressUpdate update, CancellationToken cancellation)
    {
        await EndLoadingAsync(cancellation);
        var after = session.Progress.With(update);
        try
        {
            await using var batch = new NpgsqlBatch(Connection);
            foreach (var command in ProgressStore.Write(session.Crossing, after, session.Progress, update))
            {
                batch.BatchCommands.Add(command);
            }

            batch.BatchCommands.Add(new NpgsqlBatchCommand("COMMIT"));
            await batch.ExecuteNonQueryAsync(cancellation);
        }
        catch (PostgresException exception) when (Failures.IsRefusal(exception))
        {
            throw Refused(new TableName(exception.SchemaName ?? "", exception.TableName ?? ""), ChangeKind.Insert, "", exception);
        }
        catch (Exception exception) when (Failures.IsServers(exception))
        {
            throw Failures.Of(exception, $"Committing in {session.Target.Endpoint}");
        }

        done = true;
        session.Progress = after;
        stagings?.HandOver();
    }

    public async ValueTask DisposeAsync()
    {
        if (
            done
            || Connection.FullState.HasFlag(System.Data.ConnectionState.Broken)
            || Connection.State == System.Data.ConnectionState.Closed
        )
        {
            return;
        }

        if (loading is not null)
        {
            await Closing.TryAsync(loading.GiveUpAsync);
        }

        await Closing.RollBackAsync(Connection);
    }

    /// <summary>Changes a table.</summary>
    internal Task ChangeAsync(SchemaEdit edit, CancellationToken cancellation) =>
        new TableMaker(this, Connection, session.Target.Endpoint, OwnTables).ChangeAsync(edit, cancellation);

    internal TableStatements Of(TableSchema table)
    {
        if (!statements.TryGetValue(table, out var found))
        {
            statements.Add(table, found = new TableStatements(table));
        }

        return found;
    }

    /// <summary>Runs prepared statements in one round trip and returns how many rows each touched.</summary>
    internal async Task<IReadOnlyList<ulong>> RunAsync(
        IReadOnlyList<(NpgsqlBatchCommand Command, TableSchema Table, FoldedRow Row)> commands,
        CancellationToken cancellation
    )
    {
        await using var batch = new NpgsqlBatch(Connection);
        foreach (var (command, _, _) in commands)
        {
            batch.BatchCommands.Add(command);
        }

        try
        {
            await batch.ExecuteNonQueryAsync(cancellation);
            return [.. commands.Select(entry => entry.Command.Rows)];
        }
        catch (PostgresException exception) when (Failures.IsRefusal(exception))
        {
            var index = exception.BatchCommand is { } bad ? batch.BatchCommands.IndexOf(bad) : 0;
            var (_, table, row) = commands[Math.Max(0, index)];
            throw Refused(table.Name, row.Kind, RowKey.Display(row.After.IsNone ? row.Before : row.After, table.KeyOrdinals), exception);
        }
        catch (Exception exception) when (Failures.IsServers(exception))
        {
            throw Failures.Of(exception, $"Writing in {session.Target.Endpoint}");
        }
    }

    /// <summary>Runs one statement for a table and returns how many rows it touched.</summary>
    internal async Task<long> RunAsync(string statement, string what, CancellationToken cancellation, TableSchema? table = null)
    {
        try
        {
            await using var command = new NpgsqlCommand(statement, Connection);
            return await command.ExecuteNonQueryAsync(cancellation);
        }
        catch (PostgresException exception) when (Failures.IsRefusal(exception) && table is not null)
        {
            throw Refused(table.Name, ChangeKind.Update, "", exception);
        }
        catch (Exception exception) when (Failures.IsServers(exception))
        {
            throw Failures.Of(exception, $"{what} in {session.Target.Endpoint}");
        }
    }

    internal async Task CopyAsync(TableSchema table, string statement, ReadOnlyMemory<byte> rows, CancellationToken cancellation)
    {
        try
        {
            await using var writer = await Connection.BeginTextImportAsync(statement, cancellation);
            await ((StreamWriter)writer).BaseStream.WriteAsync(rows, cancellation);
        }
        catch (PostgresException exception) when (Failures.IsRefusal(exception))
        {
            throw Refused(table.Name, ChangeKind.Insert, "", exception);
        }
        catch (Exception exception) when (Failures.IsServers(exception))
        {
            throw Failures.Of(exception, $"Copying rows of {table.Name} to {session.Target.Endpoint}");
        }
    }

    /// <summary>Ends the copy that blocks of a load went into; only then has the server taken all of them.</summary>
    private async Task EndLoadingAsync(CancellationToken cancellation)
    {
        if (loading is not { } ending)
        {
            return;
        }

        loading = null;
        try
        {
            await ending.EndAsync(cancellation);
            if (ending.Staging is { } staging)
            {
                await RunAsync(
                    Of(ending.Table).MergeStaged(staging.Name),
                    $"Merging rows of {ending.Table.Name}",
                    cancellation,
                    ending.Table
                );
                await RunAsync($"TRUNCATE {staging.Name}", "Emptying a staging table", cancellation);
            }
        }
        catch (PostgresException exception) when (Failures.IsRefusal(exception))
        {
            throw Refused(ending.Table.Name, ChangeKind.Insert, "", exception);
        }
        catch (Exception exception) when (Failures.IsServers(exception))
        {
            throw Failures.Of(exception, $"Copying rows of {ending.Table.Name} to {session.Target.Endpoint}");
        }
    }

    internal RowRefusedException Refused(TableName table, ChangeKind kind, string key, PostgresException answer)
    {
        var words = $"{answer.MessageText} (SQLSTATE {answer.SqlState})";
        return new RowRefusedException($"{session.Target.Endpoint} refused {ChangeSymbols.Of(kind)} of {table} {key}: {words}.", answer)
        {
            Table = table,
            Kind = kind,
            Key = key,
            Answer = words,
            OfType = answer.Routine == "enum_in",
            NullIn = answer.SqlState == PostgresErrorCodes.NotNullViolation ? answer.ColumnName : null,
            Remedy = "Remove the cause on the target, then resume: the row is tried again. Everything before it is applied.",
        };
    }

    private static IReadOnlyList<FoldedTable> Ordered(IReadOnlyList<FoldedTable> tables)
    {
        if (tables.Count < 2)
        {
            return tables;
        }

        var byName = tables.ToDictionary(folded => folded.Table.Name);
        return [.. TableOrder.Of(tables.Select(folded => folded.Table)).ParentsFirst.Select(name => byName[name])];
    }

    /// <summary>
    /// Before the first change of a form: the table here must have the same columns and the key the changes are found by.
    /// </summary>
    private async Task CompareAsync(TableSchema form, CancellationToken cancellation)
    {
        if (!session.Compared.Add(form))
        {
            return;
        }

        if (await SchemaComparison.DifferenceAsync(Connection, form, cancellation) is { } difference)
        {
            session.Compared.Remove(form);
            throw new PortException(
                $"{form.Name} in {session.Target.Endpoint} does not match the changes that arrive: {difference}."
            )
            {
                Remedy = "Restore its columns on the target, or load the table again.",
            };
        }
    }

    internal async Task<long> CountAsync(TableName table, CancellationToken cancellation) =>
        (await CountAsync($"SELECT count(*), 0::int8, 0::int8 FROM {Quote.Name(table)}", cancellation)).Inserted;

    /// <summary>Three counts of one statement.</summary>
    internal async Task<ReplacedRows> CountAsync(string statement, CancellationToken cancellation)
    {
        try
        {
            await using var command = new NpgsqlCommand(statement, Connection);
            await using var reader = await command.ExecuteReaderAsync(cancellation);
            await reader.ReadAsync(cancellation);
            return new ReplacedRows(reader.GetInt64(0), reader.GetInt64(1), reader.GetInt64(2));
        }
        catch (Exception exception) when (Failures.IsServers(exception))
        {
            throw Failures.Of(exception, $"Counting rows in {session.Target.Endpoint}");
        }
    }

    /// <summary>Whether an expression of the server is not NULL.</summary>
    internal async Task<bool> IsThereAsync(string expression, CancellationToken cancellation)
    {
        try
        {
            await using var command = new NpgsqlCommand($"SELECT {expression} IS NOT NULL", Connection);
            return (bool)(await command.ExecuteScalarAsync(cancellation))!;
        }
        catch (Exception exception) when (Failures.IsServers(exception))
        {
            throw Failures.Of(exception, $"Looking into {session.Target.Endpoint}");
        }
    }
}
