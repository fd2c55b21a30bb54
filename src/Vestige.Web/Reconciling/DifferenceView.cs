using Vestige.Core.Changes;
using Vestige.Core.Reconciling;
using Vestige.Core.Schemas;
using Vestige.Engine.Reconciling;
using Vestige.Web.Treating;

namespace Vestige.Web.Reconciling;

/// <summary>A row that differs, as it is shown; of a value under a mask only type and length.</summary>
public sealed class DifferenceView(TableFinding finding, RowDifference row, int place)
{
    public RowDifference Row => row;

    public TableFinding Table => finding;

    /// <summary>Its place in the list of its table.</summary>
    public int Place => place;

    public string Word => row.Kind.ToString().ToLowerInvariant();

    /// <summary>The key as a person reads it.</summary>
    public string Key => IsKeyMasked ? "a key under a mask" : string.Join(", ", row.Key.Ordinals.Select(row.Key.DisplayAt));

    /// <summary>The key for an address; null where the row cannot be looked at by it.</summary>
    public string? KeyToFollow => finding.KeyPasses && !IsKeyMasked ? Key : null;

    public bool IsKeyMasked => finding.Schema is { } form && form.KeyOrdinals.Any(i => IsMasked(form.Columns[i]));

    public IReadOnlyList<ComparedValue> Values =>
        finding.Schema is { } form ? [.. form.Columns.Select((column, i) => ValueOf(form, column, i))] : [];

    private bool IsMasked(Column column) => finding.Masked?.Contains(column.Name) == true;

    private ComparedValue ValueOf(TableSchema form, Column column, int place)
    {
        var (expected, found) = (TextOf(row.Expected, form, column, place), TextOf(row.Found, form, column, place));
        var differs = row.Columns.Contains(column.Name);
        if (differs && expected is not null && found is not null && !IsMasked(column))
        {
            var (left, right) = TextDifference.Of(expected, found);
            return new ComparedValue(column.Name, column.Type, left, right, true, false);
        }

        return new ComparedValue(column.Name, column.Type, Whole(expected, differs), Whole(found, differs), differs, IsMasked(column));
    }

    private string? TextOf(Row side, TableSchema form, Column column, int place)
    {
        // Without a key only what was compared is at hand.
        if (side.IsNone || place >= side.Count)
        {
            return null;
        }

        return IsMasked(column) ? BeforeAfter.Hidden(side, place, column.Type)
            : side.KindAt(place) == ValueKind.Text && form.Columns.Count == side.Count ? side.TextAt(place)
            : side.DisplayAt(place);
    }

    private static IReadOnlyList<(string Text, bool Differs)>? Whole(string? text, bool differs) => text is null ? null : [(text, differs)];
}
