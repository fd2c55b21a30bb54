using Vestige.Core.Changes;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Reconciling;

/// <summary>
/// What the log says of one table between two positions: for each row how it was after the last change, and how before the first.
/// Rows are copied.
/// </summary>
internal sealed class TableHistory(TableSchema form)
{
    private readonly Dictionary<RowKey, Past> rows = [];

    /// <summary>Removed and added rows of a table without a key, in log order.</summary>
    private readonly List<(Row Removed, Row Added)> loose = [];

    /// <summary>The form under which rows were written last, when it is that of the table.</summary>
    private TableSchema? seen;

    /// <summary>Why it cannot be told how its rows were; null when it can.</summary>
    public string? Broken { get; private set; }

    public long Changes { get; private set; }

    /// <summary>The keys that changed, as rows that hold the key columns only.</summary>
    public IReadOnlyList<Row> Keys => [.. rows.Values.Select(past => past.Key)];

    public void Take(TableSchema written, RowChange change)
    {
        Changes++;
        if (change.Kind is ChangeKind.Schema && SchemaNotice.Of(change).KeepsRows)
        {
            return;
        }

        if (change.Kind is ChangeKind.Schema || (!ReferenceEquals(written, seen) && !HasForm(written)))
        {
            Broken ??= "its form changed meanwhile";
        }
        else if (change.Kind is ChangeKind.Truncate)
        {
            Broken ??= "it was emptied meanwhile";
        }
        else if (!form.HasKey)
        {
            loose.Add((Copied(change.Before), Copied(change.After)));
        }
        else
        {
            TakeKeyed(change);
        }
    }

    /// <summary>Forward: the source's view is the older one, and the changes since lead from it to the target's.</summary>
    public IEnumerable<TouchedRow> After(IReadOnlyList<Row> inView)
    {
        var there = ByKey(inView);
        foreach (var (key, past) in rows)
        {
            var row = there.GetValueOrDefault(key);
            var filled =
                past.Last.IsNone || past.Base is not { } from ? past.Last : RowMerge.Fill(past.Last, there.GetValueOrDefault(from));
            yield return new TouchedRow(past.Key, row, filled, filled.IsNone || !filled.HasAbsent);
        }

        foreach (var (removed, added) in loose)
        {
            yield return new TouchedRow(default, removed, added);
        }
    }

    /// <summary>Back: the source's view is the younger one, and how a row was before its first change is what counts.</summary>
    public IEnumerable<TouchedRow> Before(IReadOnlyList<Row> inView)
    {
        var there = ByKey(inView);
        foreach (var (key, past) in rows)
        {
            yield return new TouchedRow(past.Key, there.GetValueOrDefault(key), past.First, past.FirstKnown);
        }

        foreach (var (removed, added) in loose)
        {
            yield return new TouchedRow(default, added, removed);
        }
    }

    /// <summary>Whether rows of a form have the values of this one; whether they may be NULL a log does not tell.</summary>
    private bool HasForm(TableSchema written)
    {
        seen = written;
        return written
            .Columns.Select(column => (column.Name, column.Type, column.KeyOrdinal))
            .SequenceEqual(form.Columns.Select(column => (column.Name, column.Type, column.KeyOrdinal)));
    }

    private void TakeKeyed(RowChange change)
    {
        var old = change.Before.IsNone ? (RowKey?)null : RowKey.Of(change.Before, form.KeyOrdinals);
        var now = change.After.IsNone ? (RowKey?)null : RowKey.Of(change.After, form.KeyOrdinals);
        var from = old ?? (change.Kind == ChangeKind.Insert ? null : now);
        if (from is { } before)
        {
            var known = !change.Before.IsNone && change.Before.Count == form.Columns.Count && !change.Before.HasAbsent;
            var past = Existing(
                before,
                change.Before.IsNone ? change.After : change.Before,
                known ? Copied(change.Before) : default,
                known
            );
            Update(change, now, before, past);
            return;
        }

        var made = Existing(now!.Value, change.After, default, known: true);
        (made.Last, made.Base, made.Touched) = (Copied(change.After), null, true);
    }

    private void Update(RowChange change, RowKey? now, RowKey before, Past past)
    {
        if (now is not { } after)
        {
            (past.Last, past.Base, past.Touched) = (default, null, true);
            return;
        }

        // What the log left out is as it was: in the change before, or in the view.
        var filled = Copied(past.Touched ? RowMerge.Fill(change.After, past.Last) : change.After);
        var from = past.Touched ? past.Base : before;
        if (after != before)
        {
            (past.Last, past.Base, past.Touched) = (default, null, true);
            past = Existing(after, change.After, default, known: true);
        }

        (past.Last, past.Base, past.Touched) = (filled, from, true);
    }

    private Past Existing(RowKey key, Row row, Row first, bool known)
    {
        if (!rows.TryGetValue(key, out var past))
        {
            rows.Add(key, past = new Past(row.Only(form.KeyOrdinals), first, known));
        }

        return past;
    }

    /// <summary>By keys that are equal to the byte; a database may find a row by a key that only it takes for the same.</summary>
    private Dictionary<RowKey, Row> ByKey(IReadOnlyList<Row> inView)
    {
        var there = new Dictionary<RowKey, Row>();
        foreach (var row in form.HasKey ? inView : [])
        {
            there[RowKey.Of(row, form.KeyOrdinals)] = row;
        }

        return there;
    }

    private static Row Copied(Row row) => row.IsNone ? default : new Row(row.Bytes.ToArray());

    private sealed class Past(Row key, Row first, bool firstKnown)
    {
        public Row Key => key;

        public Row First => first;

        public bool FirstKnown => firstKnown;

        public Row Last { get; set; }

        /// <summary>The key under which the view has what the log left out; null when nothing is to be had there.</summary>
        public RowKey? Base { get; set; }

        /// <summary>Whether <see cref="Last"/> says how it is.</summary>
        public bool Touched { get; set; }
    }
}
