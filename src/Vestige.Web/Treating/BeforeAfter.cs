using System.Text;
using Vestige.Core.Changes;
using Vestige.Core.Expressions;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;

namespace Vestige.Web.Treating;

/// <summary>What a treatment makes of some rows of a table. Nothing is kept.</summary>
public sealed class BeforeAfter
{
    private const int LongestShown = 60;

    public BeforeAfter(TableTreatment treatment, IEngineTypes types, IEnumerable<Row> rows)
    {
        ArgumentNullException.ThrowIfNull(treatment);
        ArgumentNullException.ThrowIfNull(types);
        ArgumentNullException.ThrowIfNull(rows);
        var masked = treatment.Hidden;
        Table = treatment.Source.Name;
        Columns = [.. treatment.Source.Columns.Select((column, i) => (column.Name, column.Type, masked.Contains(i)))];
        TargetColumns =
        [
            .. treatment.Columns.Select(column =>
                (column.Name, column.Type, IsNew: !column.IsKept || column.Name != treatment.Source.Columns[column.Of].Name)
            ),
        ];
        Samples = [.. rows.Select(row => SampleOf(treatment, masked, row))];
    }

    public TableName Table { get; }

    /// <summary>The source's columns, and whether a mask stands on them.</summary>
    public IReadOnlyList<(string Name, string Type, bool Masked)> Columns { get; }

    /// <summary>The target's columns, and whether they are made or called otherwise.</summary>
    public IReadOnlyList<(string Name, string Type, bool IsNew)> TargetColumns { get; }

    public IReadOnlyList<TreatedSample> Samples { get; }

    /// <summary>A value as pages show it where a mask stands on it.</summary>
    public static string Hidden(Row row, int column, string type) =>
        row.KindAt(column) is ValueKind.Null or ValueKind.Absent
            ? row.DisplayAt(column)
            : $"{(type.Length == 0 ? "value" : type)}, {row.DisplayAt(column).EnumerateRunes().Count()} characters";

    /// <summary>A row out of texts that a person typed, by the source's columns; an empty one is NULL.</summary>
    public static Row Typed(TableSchema form, IEngineTypes types, IReadOnlyList<string?> values)
    {
        ArgumentNullException.ThrowIfNull(form);
        ArgumentNullException.ThrowIfNull(types);
        ArgumentNullException.ThrowIfNull(values);
        var writer = new RowWriter();
        writer.Begin(form.Columns.Count);
        for (var i = 0; i < form.Columns.Count; i++)
        {
            var text = i < values.Count ? values[i] : null;
            if (string.IsNullOrEmpty(text))
            {
                writer.Null();
            }
            else
            {
                types.Encoding.WriteTyped(types.MeaningOf(form.Columns[i]).Type, text, writer);
            }
        }

        return writer.ToRow();
    }

    private static TreatedSample SampleOf(TableTreatment treatment, IReadOnlySet<int> masked, Row row)
    {
        string[] before =
        [
            .. treatment.Source.Columns.Select((column, i) => masked.Contains(i) ? Hidden(row, i, column.Type) : Short(row.DisplayAt(i))),
        ];
        try
        {
            var made = new List<TreatedChange>();
            treatment.Load(row, made);
            return made.Count == 0
                ? new TreatedSample(before, null, [], WhyLeftOut(treatment, row))
                : new TreatedSample(
                    before,
                    made[0].Table.Schema.Name.ToString(),
                    [.. Enumerable.Range(0, made[0].Change.After.Count).Select(i => After(treatment, masked, made[0], i))],
                    null
                )
                {
                    Children = [.. made.Skip(1).Select(ChildOf)],
                    MessageKey = KeyOf(treatment, made[0].Change.After),
                };
        }
        catch (EvaluationException exception)
        {
            return new TreatedSample(before, null, [], $"it would stop the crossing: {exception.Message}");
        }
    }

    /// <summary>What another crossing hides is not shown as carried by this one either.</summary>
    private static string After(TableTreatment treatment, IReadOnlySet<int> masked, TreatedChange made, int place)
    {
        var name = made.Table.Schema.Columns[place].Name;
        var of = treatment.Columns.FirstOrDefault(column => column.Name == name)?.Of ?? -1;
        return masked.Contains(of) && !treatment.Masked.Contains(of)
            ? Hidden(made.Change.After, place, made.Table.Schema.Columns[place].Type)
            : Short(made.Change.After.DisplayAt(place));
    }

    private static string? KeyOf(TableTreatment treatment, Row row) =>
        treatment.Columns.Any(column => column.MessageKeyOrdinal > 0)
            ? string.Join(", ", treatment.MessageKey.Select(i => $"{treatment.Columns[i].Name} {Short(row.DisplayAt(i))}"))
            : null;

    private static (string Into, IReadOnlyList<(string Column, string Value)> Values) ChildOf(TreatedChange child) =>
        (
            child.Table.Schema.Name.ToString(),
            [.. child.Table.Schema.Columns.Select((column, i) => (column.Name, Short(child.Change.After.DisplayAt(i))))]
        );

    private static string WhyLeftOut(TableTreatment treatment, Row row)
    {
        var failed = treatment.Keeps.FirstOrDefault(keep => !keep.IsTrue(row));
        return failed is null ? "no table of the split takes it"
            : failed.Evaluate(row).IsNull ? $"{failed.Text} is NULL"
            : $"{failed.Text} is false";
    }

    private static string Short(string value)
    {
        if (value.Length <= LongestShown)
        {
            return value;
        }

        var cut = new StringBuilder(value, 0, LongestShown - 1, LongestShown);
        return cut.Append('…').ToString();
    }
}
