namespace Vestige.Core.Changes;

/// <summary>Fills the values a log left out because they did not change.</summary>
public static class RowMerge
{
    /// <summary>
    /// A row with the absent values of <paramref name="row"/> taken from <paramref name="earlier"/>, where that one has
    /// them. Values absent from both stay absent. Returns <paramref name="row"/> itself when nothing is absent.
    /// </summary>
    public static Row Fill(Row row, Row earlier)
    {
        if (earlier.IsNone || !row.HasAbsent)
        {
            return row;
        }

        var writer = new RowWriter();
        writer.Begin(row.Count);
        for (var i = 0; i < row.Count; i++)
        {
            var from = row.KindAt(i) == ValueKind.Absent && i < earlier.Count ? earlier : row;
            writer.Value(from.KindAt(i), from.ValueAt(i));
        }

        return writer.ToRow();
    }
}
