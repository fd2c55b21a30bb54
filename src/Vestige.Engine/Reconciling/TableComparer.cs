using Vestige.Core.Changes;
using Vestige.Core.Positions;
using Vestige.Core.Reconciling;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
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
/// <param name="touched">The source's rows that changed between the views.</param>
/// <param name="position">The position of the target's view: what is found holds as of here.</param>
/// <param name="clock">Tells the time.</param>
/// <param name="listed">So many rows that differ are listed of each table at most.</param>
internal sealed class TableComparer(
    TableTreatment treatment,
    IReadOnlyList<ComparedTable> tables,
    IRowsView source,
    IRowsView target,
    IReadOnlyList<TouchedRow> touched,
    LogPosition position,
    TimeProvider clock,
    int listed
)
{
    private const int SegmentRows = 1024;
    private const int RowsReported = 10_000;
    private const int FewSegments = 64;
    private const int FewRows = 16;
    private const int MostSegments = 8192;
    private readonly TreatedRows treated = new(treatment, tables);
    private readonly Dictionary<ComparedTable, Adjustment> adjustments = tables.ToDictionary(
        table => table,
        table => new Adjustment(table)
    );
    private string? untold;

    /// <summary>How many rows the source's table has by its own estimate.</summary>
    public long EstimatedRows { get; init; }

    /// <summary>The most segments that are listed.</summary>
    public int SegmentsReported { get; init; } = SegmentReport.Most;

    /// <summary>Called while rows stream, with how many more were read; reading continues when it has returned.</summary>
    public Func<long, CancellationToken, Task> Read { get; init; } = (_, _) => Task.CompletedTask;

    /// <summary>The rows read of both sides together of which <see cref="Read"/> was not told.</summary>
    public long RowsRead { get; private set; }

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
        RowsRead += expected.Concat(found).Sum(side => side.Value.Sum(digest => digest.Count));
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
    public async Task<IReadOnlyList<TableFinding>> RunAsync(
        IReadOnlyList<Row> keys,
        IReadOnlyList<Row> found,
        CancellationToken cancellation
    )
    {
        ArgumentNullException.ThrowIfNull(found);
        Adjust(KeySpan.All);
        var findings = new List<TableFinding>();
        foreach (var table in tables)
        {
            findings.Add(await CompareAsync(table, keys, found, cancellation));
        }

        return findings;
    }

    private async Task<TableFinding> CompareAsync(
        ComparedTable table,
        IReadOnlyList<Row> keys,
        IReadOnlyList<Row> rows,
        CancellationToken cancellation
    )
    {
        var adjustment = adjustments[table];
        var expected = new Dictionary<UInt128, ExpectedRow>();
        var asked = new Dictionary<UInt128, Row>();
        foreach (var key in keys.Select(table.TargetKeyOf))
        {
            asked[adjustment.KeyHash(key)] = key;
        }

        foreach (var (key, one) in rows.SelectMany(row => treated.Of(table, row)))
        {
            asked[key] = one.Key;
            Adjustment.Count1(expected, key, one, 1);
        }

        adjustment.Apply(expected, asked.ContainsKey);
        var there = new Dictionary<UInt128, ExpectedRow>();
        var hash = table.NewRowHash();
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

        var (tally, compared, found) = (new DifferenceTally(), expected.Count, there.Count);
        RowMatching.Match(table, expected, there, tally);
        return Finding(table, compared, found, tally, false, []);
    }

    /// <summary>Only rows of the span count; a row whose key moved into it or out of it is two, each with its own key.</summary>
    private void Adjust(KeySpan within)
    {
        foreach (var row in touched.Where(row => within.IsAll || within.Contains(row.Key)))
        {
            var inView = treated.Of(row.InView);
            var expected = row.Known ? treated.Of(row.Expected) : [];
            foreach (var table in tables)
            {
                if (row.Known)
                {
                    adjustments[table].Take(inView, expected);
                }
                else
                {
                    LeaveOut(table, row, inView);
                }
            }
        }
    }

    private void LeaveOut(ComparedTable table, TouchedRow row, List<TreatedChange> inView)
    {
        adjustments[table].LeaveOut(inView);
        if (row.InView.IsNone && table.KeyPasses)
        {
            adjustments[table].LeaveOut(table.TargetKeyOf(row.Key));
        }
        else if (row.InView.IsNone)
        {
            untold ??= "rows were deleted at the source since, and which of the target's they are is not told";
        }
    }

    private async Task<Segments> CutAsync(ComparedTable table, KeySpan within, long estimatedRows, CancellationToken cancellation)
    {
        var wanted = (int)
            Math.Clamp(Math.Max(estimatedRows / SegmentRows, Math.Min(FewSegments, estimatedRows / FewRows)), 1, MostSegments);
        return table.ByRange
            ? Segments.ByRange(wanted == 1 ? [] : await source.CutAsync(treatment.Source, within, wanted, cancellation))
            : Segments.ByHash(Math.Clamp((int)Math.Round(Math.Log2(wanted)), 1, 13));
    }

    /// <summary>The digests of what the target should have, each as the row was in the source's view.</summary>
    private async Task<Dictionary<ComparedTable, Digest[]>> ExpectedAsync(
        Dictionary<ComparedTable, Segments> cuts,
        KeySpan within,
        CancellationToken cancellation
    )
    {
        // A view that never waits would keep the other side from being read meanwhile.
        await Task.Yield();
        if (tables is [{ Digested: { } shape } only])
        {
            return new()
            {
                [only] = await new StreamedRows(source, only, ofSource: true).DigestAsync(shape, cuts[only], within, cancellation),
            };
        }

        var digests = tables.ToDictionary(table => table, table => new Digest[cuts[table].Count]);
        long read = 0;
        await foreach (var row in StreamedRows.RowsAsync(source, new RowShape(treatment.Source, [], []), within, cancellation))
        {
            treated.Count(row, cuts, digests);
            if (++read % RowsReported == 0)
            {
                RowsRead -= RowsReported;
                await Read(RowsReported, cancellation);
            }
        }

        return digests;
    }

    /// <summary>The digests of what the target has.</summary>
    private async Task<Dictionary<ComparedTable, Digest[]>> FoundAsync(
        Dictionary<ComparedTable, Segments> cuts,
        KeySpan within,
        CancellationToken cancellation
    )
    {
        var digests = new Dictionary<ComparedTable, Digest[]>();
        foreach (var (table, segments) in cuts)
        {
            digests.Add(
                table,
                await new StreamedRows(target, table, ofSource: false).DigestAsync(table.Target, segments, within, cancellation)
            );
        }

        return digests;
    }

    private async Task<TableFinding> CompareAsync(
        ComparedTable table,
        Segments segments,
        KeySpan within,
        Digest[] expected,
        Digest[] found,
        CancellationToken cancellation
    )
    {
        var adjustment = adjustments[table];
        var inFlight = adjustment.Apply(expected, segments);
        await LeaveOutAsync(table, segments, found, cancellation);
        List<int> differing = [.. Enumerable.Range(0, segments.Count).Where(segment => expected[segment] != found[segment])];
        var rows = new DifferingRows(treatment, table, segments, within, source, target, treated, adjustment)
        {
            Listed = listed,
            SegmentsReported = SegmentsReported,
        };
        var listedUpTo = await rows.ListAsync(differing, expected, found, cancellation);
        if (rows.Unexplained > 0)
        {
            untold ??= $"the digests of {Figures.Of(rows.Unexplained, "segment")} differ, and none of their rows does: compare again";
        }

        var notListed = differing.Skip(listedUpTo).ToHashSet();
        var opened = differing.Take(listedUpTo).ToHashSet();
        List<SegmentFinding> parts =
        [
            .. Enumerable
                .Range(0, segments.Count)
                .Select(segment => new SegmentFinding(
                    SegmentReport.Bound(segments, segment, within, first: true),
                    SegmentReport.Bound(segments, segment, within, first: false),
                    expected[segment].Count,
                    notListed.Contains(segment) ? SegmentState.NotListed
                        : opened.Contains(segment) ? SegmentState.Differing
                        : SegmentState.Equal,
                    position,
                    inFlight[segment]
                )),
        ];
        return Finding(
            table,
            expected.Sum(digest => digest.Count),
            found.Sum(digest => digest.Count),
            rows.Tally,
            notListed.Count > 0,
            SegmentReport.Together(parts, SegmentsReported)
        ) with
        {
            ByHash = segments.AreByHash,
        };
    }

    /// <summary>Rows whose state cannot be told count on neither side.</summary>
    private async Task LeaveOutAsync(ComparedTable table, Segments segments, Digest[] found, CancellationToken cancellation)
    {
        var adjustment = adjustments[table];
        if (adjustment.LeftOut.Count == 0)
        {
            return;
        }

        var hash = table.NewRowHash();
        foreach (var row in await target.FindAsync(table.Target.Table, [.. adjustment.LeftOut], cancellation))
        {
            var key = table.Target.KeyOf(row);
            var segment = segments.Of(key, adjustment.KeyHash(key));
            found[segment] = found[segment].Without(hash.Of(row, table.Target.Columns));
        }
    }

    private TableFinding Finding(
        ComparedTable table,
        long sourceRows,
        long targetRows,
        DifferenceTally tally,
        bool notListed,
        IReadOnlyList<SegmentFinding> parts
    )
    {
        var adjustment = adjustments[table];
        return new TableFinding
        {
            Source = treatment.Source.Name,
            Into = table.Name,
            Position = position,
            At = clock.GetUtcNow(),
            SourceRows = sourceRows,
            TargetRows = targetRows,
            Same = Math.Max(0, sourceRows - tally.Missing - tally.Differing),
            Missing = tally.Missing,
            Extra = tally.Extra,
            Differing = tally.Differing,
            InFlight = adjustment.Count,
            Reason = treated.Unmade
                ?? untold
                ?? (
                    adjustment.LeftOut.Count > 0
                        ? $"{Figures.Of(adjustment.LeftOut.Count, "row")} changed at the source since, and how they were the log does "
                            + "not tell"
                        : null
                ),
            LeftOut = table.LeftOut,
            Segments = parts,
            Rows =
                table.KeyPasses && treatment.CrossesEngines
                    ? [.. tally.Rows.Select(row => row with { SourceKey = table.SourceKeyOf(row.Key) })]
                    : tally.Rows,
            NotListed = notListed || tally.Rows.Count < tally.Found,
            EstimatedRows = EstimatedRows,
            Schema = table.Treated.Schema,
            Masked = table.Masked,
            KeyPasses = table.KeyPasses,
        };
    }
}
