using Vestige.Core.Schemas;

namespace Vestige.Core.Treatments;

/// <summary>What becomes of a source's columns on the target.</summary>
public static class CarriedColumns
{
    /// <summary>
    /// The names on the target of some of the source's columns; null unless all of them are there and different values of them
    /// stay different, so that what was unique is unique.
    /// </summary>
    public static IReadOnlyList<string>? Of(TableSchema source, IReadOnlyList<TreatedColumn> columns, IReadOnlyList<string> names)
    {
        ArgumentNullException.ThrowIfNull(source);
        ArgumentNullException.ThrowIfNull(names);
        var carried = names
            .Select(name => columns.FirstOrDefault(column => column.Distinct && column.Of == source.IndexOf(name))?.Name)
            .OfType<string>()
            .ToList();
        return carried.Count == names.Count ? carried : null;
    }

    /// <summary>The same where the values themselves are there, unchanged and of the same type.</summary>
    public static IReadOnlyList<string>? Unchanged(TableTreatment treatment, IReadOnlyList<string> names)
    {
        ArgumentNullException.ThrowIfNull(treatment);
        ArgumentNullException.ThrowIfNull(names);
        var source = treatment.Source;
        var carried = names
            .Select(name =>
                treatment
                    .Columns.FirstOrDefault(column =>
                        column.Of == source.IndexOf(name)
                        && (column.IsTranscribed || (column.IsPassed && column.Type == source.Columns[column.Of].Type))
                    )
                    ?.Name
            )
            .OfType<string>()
            .ToList();
        return carried.Count == names.Count ? carried : null;
    }
}
