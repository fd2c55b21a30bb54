using SQLitePCL;
using Vestige.Connectors.StandIn.Native;
using Vestige.Core.Applying;
using Vestige.Core.Changes;
using Vestige.Core.Folding;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.StandIn.Targets;

/// <summary>
/// Writes single rows of one transaction. A row to insert that is there already is updated, and one to update that is missing is
/// inserted where all of it is known; both are counted.
/// </summary>
internal sealed class TargetRows(StandInTransaction transaction)
{
    private readonly Dictionary<TableSchema, TableStatements> statements = new(ReferenceEqualityComparer.Instance);

    /// <summary>Writes a row that cannot be there yet. Throws what refuses it.</summary>
    public void Load(TableSchema table, Row row)
    {
        var insert = transaction.Prepared(Of(table).Insert);
        BindAll(insert, row);
        Write(insert, table, ChangeKind.Insert, row);
    }

    /// <summary>Whether an update may give the row a unique value that another row has until this transaction ends.</summary>
    public bool MovesUnique(TableSchema table, FoldedRow row)
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

    /// <summary>Inserts a row, or updates the one that has its key.</summary>
    public ApplyCounts Insert(TableSchema table, Row row)
    {
        var insert = transaction.Prepared(Of(table).Insert);
        BindAll(insert, row);
        var code = insert.TryStep();
        insert.Reset();
        if (code is SqliteFailure.PrimaryKey or SqliteFailure.RowId)
        {
            Set(table, row, row);
            return new ApplyCounts(AlreadyThere: 1, 0);
        }

        ThrowIfRefused(code, table, ChangeKind.Insert, row);
        return default;
    }

    /// <summary>Updates a row by its key, or inserts it. Throws where it is missing and not all of it is known.</summary>
    public ApplyCounts Update(TableSchema table, Row before, Row after)
    {
        if (Of(table).Others.Count == 0 || Set(table, before.IsNone ? after : before, after) > 0)
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

        Insert(table, after);
        return new ApplyCounts(0, Missing: 1);
    }

    /// <summary>Changes the key of a row in place, for a row of which not all is known.</summary>
    public ApplyCounts Move(TableSchema table, Row before, Row after)
    {
        List<int> columns = [.. Enumerable.Range(0, table.Columns.Count).Where(i => after.KindAt(i) != ValueKind.Absent)];
        return Set(table, columns, before, after) > 0
            ? default
            : throw RowRefusals.Of(
                transaction.Database,
                table,
                ChangeKind.Update,
                after,
                "the row is not there, and the log does not carry all of it"
            );
    }

    /// <summary>Deletes a row by its key.</summary>
    public ApplyCounts Delete(TableSchema table, Row row)
    {
        var delete = transaction.Prepared(Of(table).Delete);
        var index = 1;
        foreach (var column in table.KeyOrdinals)
        {
            delete.Bind(index++, row, column);
        }

        return Write(delete, table, ChangeKind.Delete, row) > 0 ? default : new ApplyCounts(0, Missing: 1);
    }

    /// <summary>Deletes all rows of a table; of a shared one, only those of its own source.</summary>
    public void Empty(TableSchema table)
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

    private int Set(TableSchema table, Row key, Row after)
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

        return Set(table, columns, key, after);
    }

    private int Set(TableSchema table, IReadOnlyList<int> columns, Row key, Row after)
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

    private TableStatements Of(TableSchema table)
    {
        if (!statements.TryGetValue(table, out var made))
        {
            statements.Add(table, made = new TableStatements(table));
        }

        return made;
    }
}
