using System.Runtime.InteropServices;
using Vestige.Core.Changes;
using Vestige.Core.Schemas;

namespace Vestige.Core.Folding;

/// <summary>
/// Folds the changes of one table to one per key. What matters about a key is only whether the row existed before the
/// batch and exists after it: + then ~ is +, + then − is nothing, ~ then − is −, − then + is a replacing ~; a change of
/// the key is − of the old and + of the new. Rows are kept as given, so their memory must outlive the fold. Of a table
/// without a key only inserted rows can be gathered, each for itself.
/// </summary>
public sealed class TableFold(TableSchema table)
{
    private readonly Dictionary<RowKey, int> ordinals = [];
    private readonly List<Entry> entries = [];
    private bool emptied;

    public TableSchema Table => table;

    public int Keys => entries.Count;

    /// <summary>Takes the next change, in log order. Throws <see cref="FoldingException"/> when it contradicts the ones before.</summary>
    public void Add(RowChange change)
    {
        if (!table.HasKey && change.Kind is ChangeKind.Update or ChangeKind.Delete)
        {
            throw new FoldingException($"{table.Name} has no key: its rows are changed one by one.");
        }

        switch (change.Kind)
        {
            case ChangeKind.Insert:
                Insert(change.After);
                break;
            case ChangeKind.Update:
                Update(change.Before, change.After);
                break;
            case ChangeKind.Delete:
                Delete(change.Before);
                break;
            case ChangeKind.Truncate when table.Shared is not null:
                throw new FoldingException($"{table.Name} holds rows of other tables, which stay.");
            case ChangeKind.Truncate:
                ordinals.Clear();
                entries.Clear();
                emptied = true;
                break;
            default:
                throw new FoldingException($"{table.Name}: a {change.Kind} change cannot be folded.");
        }
    }

    public FoldedTable Finish()
    {
        var rows = new List<FoldedRow>(entries.Count);
        foreach (var entry in entries)
        {
            if (entry.ExistsAfter)
            {
                rows.Add(
                    entry.ExistedBefore
                        ? new FoldedRow(ChangeKind.Update, entry.Before, entry.After) { KnowsKeyOnly = entry.KnowsKeyOnly }
                        : new FoldedRow(ChangeKind.Insert, default, entry.After)
                );
            }
            else if (entry.ExistedBefore)
            {
                rows.Add(new FoldedRow(ChangeKind.Delete, entry.Before, default));
            }
        }

        return new FoldedTable(table, emptied, rows);
    }

    /// <summary>Rows, or their keys, that were there neither before nor after, but between.</summary>
    public IReadOnlyList<Row> Passing =>
        [.. entries.Where(entry => !entry.ExistedBefore && !entry.ExistsAfter).Select(entry => entry.Before)];

    private void Insert(Row after)
    {
        if (!table.HasKey)
        {
            entries.Add(new Entry { ExistsAfter = true, After = after });
            return;
        }

        ref var entry = ref EntryOf(after, out var isNew);
        if (!isNew && entry.ExistsAfter)
        {
            throw Contradiction(after, "inserted while it exists");
        }

        if (isNew)
        {
            entry.ExistedBefore = false;
        }

        entry.ExistsAfter = true;
        entry.After = after;
    }

    private void Update(Row before, Row after)
    {
        var oldRow = before.IsNone ? after : before;
        if (!before.IsNone && RowKey.Of(before, table.KeyOrdinals) != RowKey.Of(after, table.KeyOrdinals))
        {
            MoveKey(before, after);
            return;
        }

        ref var entry = ref EntryOf(after, out var isNew);
        if (isNew)
        {
            entry.ExistedBefore = true;
            entry.Before = oldRow;
            entry.KnowsKeyOnly = before.IsNone;
            entry.After = RowMerge.Fill(after, before);
        }
        else
        {
            if (!entry.ExistsAfter)
            {
                throw Contradiction(after, "updated after it was deleted");
            }

            entry.After = RowMerge.Fill(RowMerge.Fill(after, before), entry.After);
        }

        entry.ExistsAfter = true;
    }

    private void MoveKey(Row before, Row after)
    {
        var known = ordinals.TryGetValue(RowKey.Of(before, table.KeyOrdinals), out var ordinal) ? entries[ordinal].After : default;
        var whole = RowMerge.Fill(RowMerge.Fill(after, before), known);
        if (whole.HasAbsent)
        {
            throw new FoldingException(
                $"{table.Name}: the key of a row changed and the log does not carry the whole row. The source must log the full row before."
            );
        }

        Delete(before);
        Insert(whole);
    }

    private void Delete(Row before)
    {
        ref var entry = ref EntryOf(before, out var isNew);
        if (isNew)
        {
            entry.ExistedBefore = true;
            entry.Before = before;
        }
        else if (!entry.ExistsAfter)
        {
            throw Contradiction(before, "deleted twice");
        }
        else if (!entry.ExistedBefore)
        {
            entry.Before = before;
        }

        entry.ExistsAfter = false;
        entry.After = default;
    }

    private ref Entry EntryOf(Row row, out bool isNew)
    {
        ref var ordinal = ref CollectionsMarshal.GetValueRefOrAddDefault(ordinals, RowKey.Of(row, table.KeyOrdinals), out var exists);
        isNew = !exists;
        if (isNew)
        {
            ordinal = entries.Count;
            entries.Add(default);
        }

        return ref CollectionsMarshal.AsSpan(entries)[ordinal];
    }

    private FoldingException Contradiction(Row row, string what) =>
        new($"{table.Name}, key {RowKey.Display(row, table.KeyOrdinals)}: {what}, according to the log.");

    private struct Entry
    {
        public bool ExistedBefore;
        public bool ExistsAfter;
        public bool KnowsKeyOnly;

        /// <summary>Of a row that did not exist before: as it was last deleted.</summary>
        public Row Before;
        public Row After;
    }
}
