using Vestige.Core.Reconciling;

namespace Vestige.Engine.Reconciling;

/// <summary>Holds the rows of both sides against each other by their keys.</summary>
internal static class RowMatching
{
    /// <summary>Counts and lists what differs. What is found on both sides goes from <paramref name="found"/>.</summary>
    public static void Match(
        ComparedTable table,
        Dictionary<UInt128, ExpectedRow> expected,
        Dictionary<UInt128, ExpectedRow> found,
        DifferenceTally tally
    )
    {
        foreach (var (key, should) in expected)
        {
            if (!found.Remove(key, out var there))
            {
                tally.Add(new RowDifference(table.Name, DifferenceKind.Missing, should.Key, should.Row, default, [], should.Times));
            }
            else if (should.Times != there.Times)
            {
                var missing = should.Times > there.Times;
                tally.Add(
                    new RowDifference(
                        table.Name,
                        missing ? DifferenceKind.Missing : DifferenceKind.Extra,
                        should.Key,
                        missing ? should.Row : default,
                        missing ? default : there.Row,
                        [],
                        Math.Abs(should.Times - there.Times)
                    )
                );
            }
            else if (should.Hash != there.Hash)
            {
                tally.Add(new RowDifference(table.Name, DifferenceKind.Differing, should.Key, should.Row, there.Row, []));
            }
        }

        foreach (var there in found.Values)
        {
            tally.Add(new RowDifference(table.Name, DifferenceKind.Extra, there.Key, default, there.Row, [], there.Times));
        }

        for (var i = 0; i < tally.Rows.Count; i++)
        {
            tally.Rows[i] = WithColumns(table, tally.Rows[i]);
        }
    }

    /// <summary>With the names of the columns that differ, where both rows are at hand whole.</summary>
    public static RowDifference WithColumns(ComparedTable table, RowDifference row) =>
        row.Kind != DifferenceKind.Differing || row.Expected.IsNone || row.Found.IsNone
            ? row
            : row with
            {
                Columns = [.. table.DifferingColumns(row.Expected, row.Found).Select(i => table.Treated.Schema.Columns[i].Name)],
            };
}
