using Vestige.Core.Changes;
using Vestige.Core.Reconciling;
using Vestige.Core.Treatments;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Reconciling;

/// <summary>
/// What the rows that changed between the views of both sides make of one target table: those of the source's view that do not
/// count any more, those that count in their place, and those that are left out on both sides.
/// </summary>
internal sealed class Adjustment(ComparedTable table)
{
    private readonly RowHash rows = table.NewRowHash();
    private readonly RowHash keys = table.NewKeyHash();
    private readonly List<(int Sign, UInt128 Key, ExpectedRow Row)> changes = [];
    private readonly Dictionary<UInt128, Row> leftOut = [];

    /// <summary>How many rows are in flight.</summary>
    public int Count { get; private set; }

    /// <summary>Keys of rows whose state at the target's position cannot be told.</summary>
    public IReadOnlyCollection<Row> LeftOut => leftOut.Values;

    public bool IsLeftOut(UInt128 key) => leftOut.ContainsKey(key);

    public UInt128 KeyHash(Row keyRow) => keys.Of(keyRow);

    /// <summary>
    /// Takes what the treatment made of a row as it is in the source's view, and of the same row as it was at the target's position.
    /// </summary>
    public void Take(IEnumerable<TreatedChange> inView, IEnumerable<TreatedChange> expected)
    {
        var before = changes.Count;
        Add(-1, inView);
        Add(1, expected);
        Count += changes.Count > before ? 1 : 0;
    }

    /// <summary>Takes a row out on both sides.</summary>
    public void LeaveOut(Row key) => leftOut[KeyHash(key)] = key;

    /// <summary>Takes a row out on both sides, as the treatment made it of the row in the source's view.</summary>
    public void LeaveOut(IEnumerable<TreatedChange> inView)
    {
        foreach (var made in inView.Where(made => ReferenceEquals(made.Table, table.Treated)))
        {
            LeaveOut(table.Target.KeyOf(made.Change.After));
        }

        Add(-1, inView);
    }

    /// <summary>The source's digests as they had to be at the target's position, and how many rows of each segment are in flight.</summary>
    public int[] Apply(Digest[] digests, Segments segments)
    {
        var inFlight = new int[digests.Length];
        foreach (var (sign, key, row) in changes)
        {
            var segment = segments.Of(row.Key, key);
            digests[segment] = sign > 0 ? digests[segment].With(row.Hash) : digests[segment].Without(row.Hash);
            inFlight[segment] += sign > 0 ? 1 : 0;
        }

        return inFlight;
    }

    /// <summary>The source's rows of some segments as they had to be at the target's position.</summary>
    public void Apply(Dictionary<UInt128, ExpectedRow> expected, Segments segments, IReadOnlySet<int> wanted)
    {
        foreach (var (sign, key, row) in changes.Where(change => wanted.Contains(segments.Of(change.Row.Key, change.Key))))
        {
            Count1(expected, key, row, sign);
        }
    }

    /// <summary>The same for rows that were picked one by one.</summary>
    public void Apply(Dictionary<UInt128, ExpectedRow> expected, Func<UInt128, bool> wanted)
    {
        foreach (var (sign, key, row) in changes.Where(change => wanted(change.Key)))
        {
            Count1(expected, key, row, sign);
        }
    }

    /// <summary>Counts a row in, or out.</summary>
    public static void Count1(Dictionary<UInt128, ExpectedRow> rows, UInt128 key, ExpectedRow row, int sign)
    {
        var times = (rows.TryGetValue(key, out var known) ? known.Times : 0) + sign;
        if (times == 0)
        {
            rows.Remove(key);
        }
        else
        {
            rows[key] = (
                sign > 0 ? row
                : known.Times == 0 ? row
                : known
            ) with
            {
                Times = times,
            };
        }
    }

    private void Add(int sign, IEnumerable<TreatedChange> made)
    {
        foreach (var (_, change) in made.Where(one => ReferenceEquals(one.Table, table.Treated)))
        {
            var row = change.After;
            var key = table.Target.KeyOf(row);
            changes.Add((sign, KeyHash(key), new ExpectedRow(key, rows.Of(row, table.Target.Columns), 1, new Row(row.Bytes.ToArray()))));
        }
    }
}
