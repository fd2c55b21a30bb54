using Vestige.Core.Changes;
using Vestige.Core.Expressions;
using Vestige.Core.Positions;
using Vestige.Core.Reconciling;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Reconciling;

/// <summary>
/// Compares the rows of one source's table, as the treatment makes them, with the target's. Both views stand at positions that are
/// known exactly, and what changed between them is told by the log: so each row is compared with what it had to be at the position of
/// the target's view, and nothing in flight is taken for a difference. Used by one caller at a time.
/// </summary>
/// <param name="treatment">What happens to the rows.</param>
/// <param name="tables">The target's tables that they go into.</param>
/// <param name="source">The source's view.</param>
/// <param name="target">The target's view.</param>
/// <param name="form">How rows are written for hashing.</param>
/// <param name="touched">The source's rows that changed between the views.</param>
/// <param name="position">The position of the target's view: what is found holds as of here.</param>
/// <param name="clock">Tells the time.</param>
/// <param name="listed">So many rows that differ are listed of each table at most.</param>
internal sealed class TableComparer(
    TableTreatment treatment,
    IReadOnlyList<ComparedTable> tables,
    IRowsView source,
    IRowsView target,
    IRowForm form,
    IReadOnlyList<TouchedRow> touched,
    LogPosition position,
    TimeProvider clock,
    int listed)
{
    private const int SegmentRows = 1024;
    private const int FewSegments = 64;
    private const int FewRows = 16;
    private const int MostSegments = 8192;
    private const int GroupRows = 1 << 18;
    private readonly StreamedRows sourceRows = new(source, form);
    private readonly StreamedRows targetRows = new(target, form);
    private readonly Dictionary<ComparedTable, Adjustment> adjustments = tables.ToDictionary(table => table, table => new Adjustment(table, form));
    private readonly List<TreatedChange> made = [];
    private string? unmade;

    /// <summary>How many rows the source's table has by its own estimate.</summary>
    public long EstimatedRows { get; init; }

    /// <summary>So many segments are told at most.</summary>
    public int SegmentsTold { get; init; } = SegmentTelling.Most;

    /// <summary>Called with the rows read so far, of both sides together.</summary>
    public Func<long, CancellationToken, Task> Read { get; init; } = (_, _) => Task.CompletedTask;

    /// <summary>Compares all rows of a span; a span other than all needs ranges on both sides.</summary>
    public async Task<IReadOnlyList<TableFinding>> RunAsync(KeySpan within, long estimatedRows, CancellationToken cancellation)
    {
        Adjust(within);
        var cuts = new Dictionary<ComparedTable, Segments>();
        foreach (var table in tables)
        {
            cuts.Add(table, await CutAsync(table, within, estimatedRows, cancellation));
        }

        // Both sides at once.
        var (should, there) = (ExpectedAsync(cuts, within, cancellation), FoundAsync(cuts, within, cancellation));
        await Task.WhenAll(should, there);
        var (expected, found) = (await should, await there);
        var findings = new List<TableFinding>();
        foreach (var table in tables)
        {
            findings.Add(await CompareAsync(table, cuts[table], within, expected[table], found[table], cancellation));
        }

        return findings;
    }

    /// <summary>Compares single rows: those of some source's keys, as they were found in the source's view.</summary>
    /// <param name="keys">The keys, as rows that hold the source's key columns only.</param>
    /// <param name="found">The rows of them that are there.</param>
    /// <param name="cancellation">Gives up.</param>
    public async Task<IReadOnlyList<TableFinding>> RunAsync(IReadOnlyList<Row> keys, IReadOnlyList<Row> found, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(found);
        Adjust(KeySpan.All);
        var findings = new List<TableFinding>();
        foreach (var table in tables)
        {
            var adjustment = adjustments[table];
            var expected = new Dictionary<UInt128, ExpectedRow>();
            var asked = new Dictionary<UInt128, Row>();
            foreach (var key in keys)
            {
                asked[adjustment.KeyHash(key)] = key;
            }

            foreach (var row in found)
            {
                foreach (var (key, one) in MadeOf(table, row))
                {
                    asked[key] = one.Key;
                    Adjustment.Count1(expected, key, one, 1);
                }
            }

            adjustment.Apply(expected, asked.ContainsKey);
            var there = new Dictionary<UInt128, ExpectedRow>();
            var hash = new RowHash(form);
            foreach (var row in await target.FindAsync(table.Target.Table, [.. asked.Values], cancellation))
            {
                var key = table.Target.KeyOf(row);
                Adjustment.Count1(there, adjustment.KeyHash(key), new ExpectedRow(key, hash.Of(row, table.Target.Columns), 1, row), 1);
            }

            foreach (var key in asked.Keys.Where(adjustment.IsLeftOut))
            {
                expected.Remove(key);
                there.Remove(key);
            }

            var tally = new DifferenceTally();
            RowMatching.Match(table, expected, there, tally);
            findings.Add(Finding(table, expected.Count, there.Count, tally, false, [], adjustment));
        }

        return findings;
    }

    /// <summary>Only rows of the span count; a row whose key moved into it or out of it is two, each with its own key.</summary>
    private void Adjust(KeySpan within)
    {
        foreach (var row in touched.Where(row => within.IsAll || within.Holds(row.Key)))
        {
            var inView = Made(row.InView);
            var expected = row.Known ? Made(row.Expected) : [];
            foreach (var table in tables)
            {
                if (row.Known)
                {
                    adjustments[table].Take(inView, expected);
                }
                else
                {
                    adjustments[table].LeaveOut(inView);
                    if (row.InView.IsNone && table.Source is not null)
                    {
                        adjustments[table].LeaveOut(row.Key);
                    }
                    else if (row.InView.IsNone)
                    {
                        unmade ??= "rows were deleted at the source since, and which of the target's they are is not told";
                    }
                }
            }
        }
    }

    private List<TreatedChange> Made(Row row)
    {
        var into = new List<TreatedChange>();
        if (!row.IsNone)
        {
            TryLoad(row, into);
        }

        return into;
    }

    /// <summary>A row that cannot be treated is not on the target: it waits there in quarantine, or the crossing stopped before it.</summary>
    private void TryLoad(Row row, List<TreatedChange> into)
    {
        try
        {
            treatment.Load(row, into);
        }
        catch (EvaluationException exception)
        {
            into.Clear();
            unmade ??= $"some rows cannot be treated: {exception.Message}";
        }
    }

    private async Task<Segments> CutAsync(ComparedTable table, KeySpan within, long estimatedRows, CancellationToken cancellation)
    {
        var wanted = (int)Math.Clamp(Math.Max(estimatedRows / SegmentRows, Math.Min(FewSegments, estimatedRows / FewRows)), 1, MostSegments);
        return table.ByRange
            ? Segments.ByRange(wanted == 1 ? [] : await source.CutAsync(treatment.Source, within, wanted, cancellation))
            : Segments.ByHash(Math.Clamp((int)Math.Round(Math.Log2(wanted)), 1, 13));
    }

    /// <summary>The digests of what the target should have, each as the row was in the source's view.</summary>
    private async Task<Dictionary<ComparedTable, Digest[]>> ExpectedAsync(Dictionary<ComparedTable, Segments> cuts, KeySpan within, CancellationToken cancellation)
    {
        if (tables is [{ Source: { } shape } only])
        {
            return new() { [only] = await sourceRows.DigestAsync(shape, cuts[only], within, cancellation) };
        }

        var digests = tables.ToDictionary(table => table, table => new Digest[cuts[table].Count]);
        long read = 0;
        await foreach (var row in StreamedRows.RowsAsync(source, new RowShape(treatment.Source, [], []), within, cancellation))
        {
            foreach (var (table, key, one) in MadeOf(row))
            {
                var segment = cuts[table].Of(one.Key, key);
                digests[table][segment] = digests[table][segment].With(one.Hash);
            }

            if (++read % 10_000 == 0)
            {
                await Read(read, cancellation);
            }
        }

        return digests;
    }

    private readonly Dictionary<ComparedTable, RowHash> hashes = tables.ToDictionary(table => table, _ => new RowHash(form));

    private IEnumerable<(UInt128 Key, ExpectedRow Row)> MadeOf(ComparedTable table, Row row) =>
        MadeOf(row).Where(one => one.Table == table).Select(one => (one.Key, one.Row));

    private List<(ComparedTable Table, UInt128 Key, ExpectedRow Row)> MadeOf(Row row)
    {
        made.Clear();
        TryLoad(row, made);
        var rows = new List<(ComparedTable, UInt128, ExpectedRow)>();
        foreach (var (treated, change) in made)
        {
            if (tables.FirstOrDefault(table => ReferenceEquals(table.Treated, treated)) is { } table)
            {
                var key = table.Target.KeyOf(change.After);
                rows.Add((table, adjustments[table].KeyHash(key), new ExpectedRow(key, hashes[table].Of(change.After, table.Target.Columns), 1, change.After)));
            }
        }

        return rows;
    }

    /// <summary>The digests of what the target has.</summary>
    private async Task<Dictionary<ComparedTable, Digest[]>> FoundAsync(Dictionary<ComparedTable, Segments> cuts, KeySpan within, CancellationToken cancellation)
    {
        var digests = new Dictionary<ComparedTable, Digest[]>();
        foreach (var (table, segments) in cuts)
        {
            digests.Add(table, await targetRows.DigestAsync(table.Target, segments, within, cancellation));
        }

        return digests;
    }

    private async Task<TableFinding> CompareAsync(ComparedTable table, Segments segments, KeySpan within, Digest[] expected, Digest[] found, CancellationToken cancellation)
    {
        var adjustment = adjustments[table];
        await Read(expected.Sum(digest => digest.Count) + found.Sum(digest => digest.Count), cancellation);
        var inFlight = adjustment.Apply(expected, segments);
        await LeaveOutAsync(table, segments, found, cancellation);
        List<int> differing = [.. Enumerable.Range(0, segments.Count).Where(segment => expected[segment] != found[segment])];
        var (tally, listedUpTo, unexplained) = (new DifferenceTally(), 0, 0);
        while (listedUpTo < differing.Count && tally.Rows.Count < listed)
        {
            var group = Group(differing, listedUpTo, expected, found);
            unexplained += await OpenAsync(table, segments, group, within, tally, cancellation);
            listedUpTo += group.Count;
        }

        if (unexplained > 0)
        {
            unmade ??= $"the digests of {Core.Text.Figures.Of(unexplained, "segment")} differ, and none of their rows does: compare again";
        }

        var notListed = differing.Skip(listedUpTo).ToHashSet();
        var opened = differing.Take(listedUpTo).ToHashSet();
        List<SegmentFinding> parts = [.. Enumerable.Range(0, segments.Count).Select(segment => new SegmentFinding(
            SegmentTelling.Bound(segments, segment, within, first: true),
            SegmentTelling.Bound(segments, segment, within, first: false),
            expected[segment].Count,
            notListed.Contains(segment) ? SegmentState.NotListed : opened.Contains(segment) ? SegmentState.Differing : SegmentState.Equal,
            position,
            inFlight[segment]))];
        return Finding(table, expected.Sum(digest => digest.Count), found.Sum(digest => digest.Count), tally, notListed.Count > 0, SegmentTelling.Together(parts, SegmentsTold), adjustment) with { ByHash = segments.AreByHash };
    }

    /// <summary>Rows whose state cannot be told count on neither side.</summary>
    private async Task LeaveOutAsync(ComparedTable table, Segments segments, Digest[] found, CancellationToken cancellation)
    {
        var adjustment = adjustments[table];
        if (adjustment.LeftOut.Count == 0)
        {
            return;
        }

        foreach (var row in await target.FindAsync(table.Target.Table, [.. adjustment.LeftOut], cancellation))
        {
            var key = table.Target.KeyOf(row);
            var segment = segments.Of(key, adjustment.KeyHash(key));
            found[segment] = found[segment].Without(hashes[table].Of(row, table.Target.Columns));
        }
    }

    /// <summary>As many segments as may be held in memory at once.</summary>
    private static List<int> Group(List<int> differing, int from, Digest[] expected, Digest[] found)
    {
        var group = new List<int>();
        long rows = 0;
        for (var i = from; i < differing.Count && (group.Count == 0 || rows < GroupRows); i++)
        {
            group.Add(differing[i]);
            rows += expected[differing[i]].Count + found[differing[i]].Count;
        }

        return group;
    }

    /// <summary>Compares the rows of segments one by one, read from both sides at once. Tells in how many of them no row differs, which must not be.</summary>
    private async Task<int> OpenAsync(ComparedTable table, Segments segments, List<int> wanted, KeySpan within, DifferenceTally tally, CancellationToken cancellation)
    {
        var (should, there) = (ExpectedRowsAsync(table, segments, wanted, within, cancellation), FoundRowsAsync(table, segments, wanted, within, cancellation));
        await Task.WhenAll(should, there);
        var (from, rows) = (tally.Rows.Count, new DifferenceTally());
        RowMatching.Match(table, await should, await there, rows);
        int SegmentOf(RowDifference row) => segments.Of(row.Key, adjustments[table].KeyHash(row.Key));
        var whole = await new WholeRows(source, target, form, Made).ReadAsync(table, [.. rows.Rows.Take(listed - from)], cancellation);
        tally.Add(rows, [.. whole.Select(row => row with { Segment = SegmentTelling.PlaceOf(SegmentOf(row), segments.Count, SegmentsTold) })]);
        return wanted.Count - rows.Rows.Select(SegmentOf).Distinct().Count();
    }

    private async Task<Dictionary<UInt128, ExpectedRow>> ExpectedRowsAsync(ComparedTable table, Segments segments, List<int> wanted, KeySpan within, CancellationToken cancellation)
    {
        var (expected, chosen, keys) = (new Dictionary<UInt128, ExpectedRow>(), wanted.ToHashSet(), new RowHash(form));
        if (table.Source is { } shape && tables.Count == 1)
        {
            await foreach (var row in sourceRows.HashesAsync(shape, segments, wanted, within, cancellation))
            {
                Adjustment.Count1(expected, keys.Of(row.Key), new ExpectedRow(row.Key, row.Hash, 1, default), 1);
            }
        }
        else
        {
            await StreamAsync(table, segments, wanted, chosen, within, expected, cancellation);
        }

        adjustments[table].Apply(expected, segments, chosen);
        return expected;
    }

    private async Task<Dictionary<UInt128, ExpectedRow>> FoundRowsAsync(ComparedTable table, Segments segments, List<int> wanted, KeySpan within, CancellationToken cancellation)
    {
        var (found, keys) = (new Dictionary<UInt128, ExpectedRow>(), new RowHash(form));
        await foreach (var row in targetRows.HashesAsync(table.Target, segments, wanted, within, cancellation))
        {
            var key = keys.Of(row.Key);
            if (!adjustments[table].IsLeftOut(key))
            {
                Adjustment.Count1(found, key, new ExpectedRow(row.Key, row.Hash, 1, default), 1);
            }
        }

        return found;
    }

    private async Task StreamAsync(ComparedTable table, Segments segments, List<int> wanted, HashSet<int> chosen, KeySpan within, Dictionary<UInt128, ExpectedRow> expected, CancellationToken cancellation)
    {
        // Ranges of the target's keys are ranges of the source's; other segments are found in all its rows.
        foreach (var span in segments.SpansOf(wanted, within))
        {
            await foreach (var row in StreamedRows.RowsAsync(source, new RowShape(treatment.Source, [], []), span, cancellation))
            {
                foreach (var (key, one) in MadeOf(table, row))
                {
                    if (chosen.Contains(segments.Of(one.Key, key)))
                    {
                        Adjustment.Count1(expected, key, one, 1);
                    }
                }
            }
        }
    }

    private TableFinding Finding(ComparedTable table, long sourceRows, long targetRows, DifferenceTally tally, bool notListed, IReadOnlyList<SegmentFinding> parts, Adjustment adjustment) => new(
        treatment.Source.Name,
        table.Name,
        position,
        clock.GetUtcNow(),
        sourceRows,
        targetRows,
        Math.Max(0, sourceRows - tally.Missing - tally.Differing),
        tally.Missing,
        tally.Extra,
        tally.Differing,
        adjustment.Count,
        unmade ?? (adjustment.LeftOut.Count > 0 ? $"{Core.Text.Figures.Of(adjustment.LeftOut.Count, "row")} changed at the source since, and how they were the log does not tell" : null),
        table.LeftOut,
        false,
        parts,
        tally.Rows,
        notListed || tally.Rows.Count < tally.Found,
        EstimatedRows,
        table.Treated.Form,
        table.Masked,
        table.KeyPasses);
}
