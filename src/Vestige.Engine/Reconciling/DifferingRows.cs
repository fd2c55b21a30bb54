using Vestige.Core.Changes;
using Vestige.Core.Reconciling;
using Vestige.Core.Treatments;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Reconciling;

/// <summary>
/// Finds and lists the rows of a table's segments whose digests differ, read from both sides at once. Used by one caller at a time.
/// </summary>
/// <param name="treatment">What happens to the rows.</param>
/// <param name="table">The table.</param>
/// <param name="segments">How it is cut.</param>
/// <param name="within">The keys that are cut.</param>
/// <param name="source">The source's view.</param>
/// <param name="target">The target's view.</param>
/// <param name="treated">What the treatment makes of the source's rows.</param>
/// <param name="adjustment">What changed between the views.</param>
internal sealed class DifferingRows(
    TableTreatment treatment,
    ComparedTable table,
    Segments segments,
    KeySpan within,
    IRowsView source,
    IRowsView target,
    TreatedRows treated,
    Adjustment adjustment
)
{
    private const int GroupRows = 1 << 18;

    /// <summary>At most this many rows are listed.</summary>
    public required int Listed { get; init; }

    /// <summary>The most segments that are listed.</summary>
    public required int SegmentsReported { get; init; }

    public DifferenceTally Tally { get; } = new();

    /// <summary>In how many segments no row was found to differ, which must not be.</summary>
    public int Unexplained { get; private set; }

    /// <summary>Lists them segment by segment, until there are enough. Tells how many segments that took.</summary>
    public async Task<int> ListAsync(List<int> differing, Digest[] expected, Digest[] found, CancellationToken cancellation)
    {
        var done = 0;
        while (done < differing.Count && Tally.Rows.Count < Listed)
        {
            var group = Group(differing, done, expected, found);
            await OpenAsync(group, cancellation);
            done += group.Count;
        }

        return done;
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

    private async Task OpenAsync(List<int> wanted, CancellationToken cancellation)
    {
        var (should, there) = (ExpectedAsync(wanted, cancellation), FoundAsync(wanted, cancellation));
        await Task.WhenAll(should, there);
        var (from, rows) = (Tally.Rows.Count, new DifferenceTally());
        RowMatching.Match(table, await should, await there, rows);
        int SegmentOf(RowDifference row) => segments.Of(row.Key, adjustment.KeyHash(row.Key));
        var whole = await new WholeRows(table, source, target, treated.Of).ReadAsync([.. rows.Rows.Take(Listed - from)], cancellation);
        Tally.Add(
            rows,
            [.. whole.Select(row => row with { Segment = SegmentReport.PlaceOf(SegmentOf(row), segments.Count, SegmentsReported) })]
        );
        Unexplained += wanted.Count - rows.Rows.Select(SegmentOf).Distinct().Count();
    }

    private async Task<Dictionary<UInt128, ExpectedRow>> ExpectedAsync(List<int> wanted, CancellationToken cancellation)
    {
        var (expected, chosen, keys) = (new Dictionary<UInt128, ExpectedRow>(), wanted.ToHashSet(), table.NewKeyHash());
        if (table.Source is { } shape)
        {
            await foreach (
                var row in new StreamedRows(source, table, ofSource: true).HashesAsync(shape, segments, wanted, within, cancellation)
            )
            {
                Adjustment.Count1(expected, keys.Of(row.Key), new ExpectedRow(row.Key, row.Hash, 1, default), 1);
            }
        }
        else
        {
            await TreatAsync(wanted, chosen, expected, cancellation);
        }

        adjustment.Apply(expected, segments, chosen);
        return expected;
    }

    /// <summary>Ranges of the target's keys are ranges of the source's; other segments are found in all its rows.</summary>
    private async Task TreatAsync(
        List<int> wanted,
        HashSet<int> chosen,
        Dictionary<UInt128, ExpectedRow> expected,
        CancellationToken cancellation
    )
    {
        foreach (var span in segments.SpansOf(wanted, within))
        {
            await foreach (var row in StreamedRows.RowsAsync(source, new RowShape(treatment.Source, [], []), span, cancellation))
            {
                foreach (var (key, one) in treated.Of(table, row))
                {
                    if (chosen.Contains(segments.Of(one.Key, key)))
                    {
                        Adjustment.Count1(expected, key, one, 1);
                    }
                }
            }
        }
    }

    private async Task<Dictionary<UInt128, ExpectedRow>> FoundAsync(List<int> wanted, CancellationToken cancellation)
    {
        var (found, keys) = (new Dictionary<UInt128, ExpectedRow>(), table.NewKeyHash());
        await foreach (
            var row in new StreamedRows(target, table, ofSource: false).HashesAsync(table.Target, segments, wanted, within, cancellation)
        )
        {
            var key = keys.Of(row.Key);
            if (!adjustment.IsLeftOut(key))
            {
                Adjustment.Count1(found, key, new ExpectedRow(row.Key, row.Hash, 1, default), 1);
            }
        }

        return found;
    }
}
