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

    /// <summary>A row with its values in other places, and NULL in the places that it has no value for.</summary>
    /// <param name="row">The row; one that is none stays none.</param>
    /// <param name="places">For each column of the result the column of the row; -1 for NULL.</param>
    public static Row Spread(Row row, IReadOnlyList<int> places)
    {
        ArgumentNullException.ThrowIfNull(places);
        if (row.IsNone)
        {
            return row;
        }

        var writer = new RowWriter();
        writer.Begin(places.Count);
        foreach (var place in places)
        {
            if (place < 0)
            {
                writer.Null();
            }
            else
            {
                writer.Value(row.KindAt(place), row.ValueAt(place));
            }
        }

        return writer.ToRow();
    }
}
