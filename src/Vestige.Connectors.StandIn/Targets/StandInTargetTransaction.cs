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
    private readonly TargetRows rows = new(transaction);

    /// <summary>Rows that are loaded beside a table.</summary>
    internal RowsBeside Beside { get; } = new(transaction);

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
        var plain = new List<string>();
        foreach (var table in tables)
        {
            var exists = there.TryGetValue(table.Name.Name, out var existing);
            if (exists && making == TableMaking.WhereMissingOrSame && table.DifferenceTo(existing!) is { } difference)
            {
                throw new PortException($"{table.Name} has other columns: {difference}. It also holds rows of other source tables.")
                {
                    Remedy = "Load all tables that go into it again, at once.",
                };
            }

            if (exists && (making == TableMaking.Anew || (making == TableMaking.WhereOther && !table.SameForm(existing!))))
            {
                transaction.Run($"DROP TABLE {Quote.Name(table.Name.Name)}");
                exists = false;
            }

            if (!exists && table.Statement is { } own)
            {
                CreateBy(own, table);
            }
            else if (!exists)
            {
                plain.Add(TableStatements.Create(table, present));
            }
        }

        transaction.CreateAll(plain);
        return Task.CompletedTask;
    }

    private void CreateBy(string statement, TableSchema table)
    {
        transaction.Run(statement.TrimEnd().TrimEnd(';'));
        var database = transaction.Database;
        if (table.DifferenceTo(TableCatalogue.ReadTable(database.Handle, database.Name, table.Name.Name)) is { } other)
        {
            throw new PortException(
                $"The definition's statement for {table.Name} makes another table than its rows need: {other}. Nothing was changed."
            )
            {
                Remedy = "Correct the statement in the definition, or remove it.",
            };
        }
    }

    /// <summary>Runs statements that change tables.</summary>
    internal void Change(IReadOnlyList<string> statements)
    {
        foreach (var statement in statements)
        {
            transaction.Run(statement);
        }
    }

    public Task EmptyAsync(TableSchema table, CancellationToken cancellation)
    {
        rows.Empty(table);
        return Task.CompletedTask;
    }

    public Task LoadAsync(TableSchema table, RowBlock block, CancellationToken cancellation)
    {
        var reader = new ChangeReader(block.Rows);
        while (reader.TryRead(out var change))
        {
            rows.Load(table, change.After);
        }

        return Task.CompletedTask;
    }

    public Task MergeAsync(TableSchema table, RowBlock block, CancellationToken cancellation)
    {
        var reader = new ChangeReader(block.Rows);
        while (reader.TryRead(out var change))
        {
            rows.Insert(table, change.After);
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
                rows.Empty(folded.Table);
            }

            foreach (var row in folded.Rows)
            {
                if (row.Kind == ChangeKind.Delete || rows.MovesUnique(folded.Table, row))
                {
                    Count(folded.Table, rows.Delete(folded.Table, row.Before));
                }
            }
        }

        foreach (var folded in order)
        {
            foreach (var row in folded.Rows)
            {
                if (row.Kind == ChangeKind.Update && !rows.MovesUnique(folded.Table, row))
                {
                    Count(folded.Table, rows.Update(folded.Table, row.Before, row.After));
                }
            }
        }

        foreach (var folded in order)
        {
            foreach (var row in folded.Rows)
            {
                if (row.Kind == ChangeKind.Insert || rows.MovesUnique(folded.Table, row))
                {
                    Count(folded.Table, rows.Insert(folded.Table, row.After));
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
                return Task.FromResult(rows.Insert(table, change.After));
            case ChangeKind.Delete:
                return Task.FromResult(rows.Delete(table, change.Before));
            case ChangeKind.Truncate:
                rows.Empty(table);
                return Task.FromResult(default(ApplyCounts));
            case ChangeKind.Update
                when change.Before.IsNone || RowKey.Of(change.Before, table.KeyOrdinals) == RowKey.Of(change.After, table.KeyOrdinals):
                return Task.FromResult(rows.Update(table, change.Before, change.After));
            case ChangeKind.Update:
                var after = RowMerge.Fill(change.After, change.Before);
                return Task.FromResult(
                    after.HasAbsent ? rows.Move(table, change.Before, after) : rows.Delete(table, change.Before) + rows.Insert(table, after)
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
        await transaction.Database.Drills.PassConnectionAsync(cancellation);
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
}
