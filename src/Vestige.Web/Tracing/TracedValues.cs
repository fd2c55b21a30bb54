using Vestige.Core.Changes;
using Vestige.Core.Schemas;
using Vestige.Web.Treating;

namespace Vestige.Web.Tracing;

/// <summary>Rows of a trace as they are shown: values under a mask by type and length only.</summary>
public static class TracedValues
{
    /// <summary>The values of a row by column; null where the log does not carry one, empty for no row.</summary>
    public static IReadOnlyList<(string Column, string? Value)> Of(TableSchema form, Row row, IReadOnlySet<string> masked)
    {
        ArgumentNullException.ThrowIfNull(form);
        ArgumentNullException.ThrowIfNull(masked);
        return row.IsNone || row.Count != form.Columns.Count
            ? []
            : [.. form.Columns.Select((column, i) => (column.Name, Shown(row, i, column, masked)))];
    }

    /// <summary>What of a change is worth showing: its key and what it changed, or all of it.</summary>
    public static IReadOnlyList<(string Column, string? Before, string? After)> Changed(
        TableSchema form,
        RowChange change,
        IReadOnlySet<string> masked
    )
    {
        ArgumentNullException.ThrowIfNull(form);
        var (before, after) = (Of(form, change.Before, masked), Of(form, change.After, masked));
        return
        [
            .. form
                .Columns.Select(
                    (column, i) =>
                        (
                            column.Name,
                            Before: i < before.Count ? before[i].Value : null,
                            After: i < after.Count ? after[i].Value : null,
                            Same: IsSame(change, i)
                        )
                )
                .Where(value => !value.Same)
                .Select(value => (value.Name, value.Before, value.After)),
        ];
    }

    private static bool IsSame(RowChange change, int column) =>
        !change.Before.IsNone
        && !change.After.IsNone
        && column < change.Before.Count
        && column < change.After.Count
        && (
            change.After.KindAt(column) == ValueKind.Absent
            || (
                change.Before.KindAt(column) == change.After.KindAt(column)
                && change.Before.ValueAt(column).SequenceEqual(change.After.ValueAt(column))
            )
        );

    private static string? Shown(Row row, int ordinal, Column column, IReadOnlySet<string> masked) =>
        row.KindAt(ordinal) == ValueKind.Absent ? null
        : masked.Contains(column.Name) ? BeforeAfter.Hidden(row, ordinal, column.Type)
        : row.DisplayAt(ordinal);
}
