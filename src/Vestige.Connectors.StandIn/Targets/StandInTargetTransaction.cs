using SQLitePCL;
using Vestige.Connectors.StandIn.Catalogue;
using Vestige.Connectors.StandIn.Native;
using Vestige.Core.Applying;
using Vestige.Core.Changes;
using Vestige.Core.Folding;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.StandIn.Targets;

/// <summary>
/// One transaction on a stand-in. Deletes come first, children before parents, then updates, then inserts, parents before
/// children; references are checked at the commit, and a row whose unique values move is deleted and inserted again, so
/// that values may swap.
/// </summary>
internal sealed class StandInTargetTransaction(StandInTargetSession session, StandInTransaction transaction) : ITargetTransaction
{
    private readonly Dictionary<TableSchema, TableStatements> statements = new(ReferenceEqualityComparer.Instance);

    public Task CreateTablesAsync(IReadOnlyList<TableSchema> tables, TableMaking making, CancellationToken cancellation)
    {
        if (tables.Count == 0)
        {
            return Task.CompletedTask;
        }

        var database = transaction.Database;
        var there = TableCatalogue
            .Read(database.Handle, database.Name)
            .ToDictionary(table => table.Name.Name, StringComparer.OrdinalIgnoreCase);
        var present = there.Keys.Concat(tables.Select(table => table.Name.Name)).ToHashSet(StringComparer.OrdinalIgnoreCase);
        foreach (var table in tables)
        {
            var exists = there.TryGetValue(table.Name.Name, out var existing);
            if (exists && making == TableMaking.WhereMissingOrSame && table.DifferenceTo(existing!) is { } difference)
            {
                throw new PortException($"{table.Name} has another form: {difference}. Rows of other tables are in it.")
                {
                    Remedy = "Load all tables that go into it again, at once.",
                };
            }

            if (exists && (making == TableMaking.Anew || (making == TableMaking.WhereOther && !table.SameForm(existing!))))
            {
                transaction.Run($"DROP TABLE {Quote.Name(table.Name.Name)}");
                exists = false;
            }

            if (!exists)
            {
                transaction.Run(table.Statement?.TrimEnd().TrimEnd(';') ?? TableStatements.Create(table, present));
                if (
                    table.Statement is not null
                    && table.DifferenceTo(
                        TableCatalogue.Read(database.Handle, database.Name).First(made => made.Name.Name == table.Name.Name)
                    )
                        is { } other
                )
                {
                    throw new PortException(
                        $"The definition's statement for {table.Name} makes another table than its rows need: {other}. Nothing was changed."
                    )
                    {
                        Remedy = "Correct the statement in the definition, or remove it.",
                    };
                }
            }
        }

        return Task.CompletedTask;
    }

    public Task EmptyAsync(TableSchema table, CancellationToken cancellation)
    {
        Empty(table);
        return Task.CompletedTask;
    }

    private void Empty(TableSchema table)
    {
        if (table.Shared is { } shared)
        {
            transaction.Run($"{Of(table).Empty} WHERE {Quote.Name(shared.Column)} = ?", shared.Value);
        }
        else
        {
            transaction.Run(Of(table).Empty);
        }
    }

    public Task LoadAsync(TableSchema table, RowBlock block, CancellationToken cancellation)
    {
        var reader = new ChangeReader(block.Rows);
        var insert = transaction.Prepared(Of(table).Insert);
        while (reader.TryRead(out var change))
        {
            BindAll(insert, change.After);
            Write(insert, table, change.Kind, change.After);
        }

        return Task.CompletedTask;
    }

    public Task MergeAsync(TableSchema table, RowBlock block, CancellationToken cancellation)
    {
        var reader = new ChangeReader(block.Rows);
        while (reader.TryRead(out var change))
        {
            InsertRow(table, change.After);
        }

        return Task.CompletedTask;
    }

    public Task<IReadOnlyDictionary<TableName, ApplyCounts>> ApplyAsync(IReadOnlyList<FoldedTable> tables, CancellationToken cancellation)
    {
        var counts = new Dictionary<TableName, ApplyCounts>();
        void Count(TableSchema table, ApplyCounts met)
        {
            if (met.Total > 0)
            {
                counts[table.Name] = counts.GetValueOrDefault(table.Name) + met;
            }
        }

        var order = Ordered(tables);
        foreach (var folded in order.Reverse())
        {
            if (folded.EmptiedFirst)
            {
                Empty(folded.Table);
            }

            foreach (var row in folded.Rows)
            {
                if (row.Kind == ChangeKind.Delete || MovesUnique(folded.Table, row))
                {
                    Count(folded.Table, DeleteRow(folded.Table, row.Before));
                }
            }
        }

        foreach (var folded in order)
        {
            foreach (var row in folded.Rows)
            {
                if (row.Kind == ChangeKind.Update && !MovesUnique(folded.Table, row))
                {
                    Count(folded.Table, UpdateRow(folded.Table, row.Before, row.After));
                }
            }
        }

        foreach (var folded in order)
        {
            foreach (var row in folded.Rows)
            {
                if (row.Kind == ChangeKind.Insert || MovesUnique(folded.Table, row))
                {
                    Count(folded.Table, InsertRow(folded.Table, row.After));
                }
            }
        }

        return Task.FromResult<IReadOnlyDictionary<TableName, ApplyCounts>>(counts);
    }

    public Task<ApplyCounts> ApplyAsync(TableSchema table, RowChange change, CancellationToken cancellation)
    {
        switch (change.Kind)
        {
            case ChangeKind.Insert:
                return Task.FromResult(InsertRow(table, change.After));
            case ChangeKind.Delete:
                return Task.FromResult(DeleteRow(table, change.Before));
            case ChangeKind.Truncate:
                Empty(table);
                return Task.FromResult(default(ApplyCounts));
            case ChangeKind.Update
                when change.Before.IsNone || RowKey.Of(change.Before, table.KeyOrdinals) == RowKey.Of(change.After, table.KeyOrdinals):
                return Task.FromResult(UpdateRow(table, change.Before, change.After));
            case ChangeKind.Update:
                var after = RowMerge.Fill(change.After, change.Before);
                return Task.FromResult(
                    after.HasAbsent ? MoveRow(table, change.Before, after) : DeleteRow(table, change.Before) + InsertRow(table, after)
                );
            default:
                throw new InvalidOperationException($"A {change.Kind} change cannot be applied to a row.");
        }
    }

    public Task SavepointAsync(CancellationToken cancellation)
    {
        transaction.Mark();
        return Task.CompletedTask;
    }

    public Task RollBackToSavepointAsync(CancellationToken cancellation)
    {
        transaction.BackToSavepoint();
        return Task.CompletedTask;
    }

    public async Task CommitAsync(ProgressUpdate update, CancellationToken cancellation)
    {
        await transaction.Database.Drills.PassLineAsync(cancellation);
        var after = ProgressStore.Write(transaction, session.Crossing, session.Progress, update);
        try
        {
            transaction.Commit();
        }
        catch (PortException exception) when (raw.sqlite3_extended_errcode(transaction.Database.Handle) == SqliteFailure.ForeignKey)
        {
            throw RowRefusals.OfReference(transaction.Database, exception);
        }

        session.Progress = after;
    }

    public ValueTask DisposeAsync()
    {
        transaction.Dispose();
        return ValueTask.CompletedTask;
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

    private TableStatements Of(TableSchema table)
    {
        if (!statements.TryGetValue(table, out var made))
        {
            statements.Add(table, made = new TableStatements(table));
        }

        return made;
    }

    private bool MovesUnique(TableSchema table, FoldedRow row)
    {
        if (row.Kind != ChangeKind.Update || table.UniqueKeys.Count == 0 || row.After.HasAbsent)
        {
            return false;
        }

        // Where it is not known what a row had, it may be what another gets.
        if (row.KnowsKeyOnly)
        {
            return true;
        }

        foreach (var column in Of(table).UniqueColumns)
        {
            if (
                row.Before.KindAt(column) != row.After.KindAt(column)
                || !row.Before.ValueAt(column).SequenceEqual(row.After.ValueAt(column))
            )
            {
                return true;
            }
        }

        return false;
    }

    private ApplyCounts InsertRow(TableSchema table, Row row)
    {
        var insert = transaction.Prepared(Of(table).Insert);
        BindAll(insert, row);
        var code = insert.TryStep();
        insert.Reset();
        if (code is SqliteFailure.PrimaryKey or SqliteFailure.RowId)
        {
            Update(table, row, row);
            return new ApplyCounts(AlreadyThere: 1, 0);
        }

        ThrowIfRefused(code, table, ChangeKind.Insert, row);
        return default;
    }

    private ApplyCounts UpdateRow(TableSchema table, Row before, Row after)
    {
        if (Of(table).Others.Count == 0 || Update(table, before.IsNone ? after : before, after) > 0)
        {
            return default;
        }

        if (after.HasAbsent)
        {
            throw RowRefusals.Of(
                transaction.Database,
                table,
                ChangeKind.Update,
                after,
                "the row is not there, and the log does not carry all of it"
            );
        }

        InsertRow(table, after);
        return new ApplyCounts(0, Missing: 1);
    }

    /// <summary>Gives a row another key where it stands, since not all of it is known.</summary>
    private ApplyCounts MoveRow(TableSchema table, Row before, Row after)
    {
        List<int> columns = [.. Enumerable.Range(0, table.Columns.Count).Where(i => after.KindAt(i) != ValueKind.Absent)];
        return Update(table, columns, before, after) > 0
            ? default
            : throw RowRefusals.Of(
                transaction.Database,
                table,
                ChangeKind.Update,
                after,
                "the row is not there, and the log does not carry all of it"
            );
    }

    private int Update(TableSchema table, Row key, Row after)
    {
        var made = Of(table);
        if (made.Others.Count == 0)
        {
            return 1;
        }

        var columns = after.HasAbsent ? [.. made.Others.Where(i => after.KindAt(i) != ValueKind.Absent)] : made.Others;
        if (columns.Count == 0)
        {
            return 1;
        }

        return Update(table, columns, key, after);
    }

    private int Update(TableSchema table, IReadOnlyList<int> columns, Row key, Row after)
    {
        var made = Of(table);
        var update = transaction.Prepared(ReferenceEquals(columns, made.Others) ? made.Update : made.UpdateOf(columns));
        var index = 1;
        foreach (var column in columns)
        {
            update.Bind(index++, after, column);
        }

        foreach (var column in table.KeyOrdinals)
        {
            update.Bind(index++, key, column);
        }

        return Write(update, table, ChangeKind.Update, after);
    }

    private ApplyCounts DeleteRow(TableSchema table, Row row)
    {
        var delete = transaction.Prepared(Of(table).Delete);
        var index = 1;
        foreach (var column in table.KeyOrdinals)
        {
            delete.Bind(index++, row, column);
        }

        return Write(delete, table, ChangeKind.Delete, row) > 0 ? default : new ApplyCounts(0, Missing: 1);
    }

    private static void BindAll(Statement statement, Row row)
    {
        for (var i = 0; i < row.Count; i++)
        {
            statement.Bind(i + 1, row, i);
        }
    }

    private int Write(Statement statement, TableSchema table, ChangeKind kind, Row row)
    {
        var code = statement.TryStep();
        statement.Reset();
        ThrowIfRefused(code, table, kind, row);
        return raw.sqlite3_changes(transaction.Database.Handle);
    }

    private void ThrowIfRefused(int code, TableSchema table, ChangeKind kind, Row row)
    {
        if (code == raw.SQLITE_DONE)
        {
            return;
        }

        var words = raw.sqlite3_errmsg(transaction.Database.Handle).utf8_to_string();
        throw SqliteFailure.IsConstraint(code) || (code & 0xFF) is raw.SQLITE_MISMATCH or raw.SQLITE_TOOBIG
            ? RowRefusals.Of(transaction.Database, table, kind, row, $"{words} (SQLite {code})")
            : SqliteFailure.Of(transaction.Database.Handle, code, table.Name.ToString());
    }
}
