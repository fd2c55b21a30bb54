using Vestige.Core.Changes;
using Vestige.Core.Expressions;
using Vestige.Core.Types;

namespace Vestige.Core.Treatments;

/// <summary>
/// Makes the child rows of a table's rows. A child row is treated as a row of the source would be that had the parent's columns,
/// the place, and what is in the element. Not safe for several threads at once.
/// </summary>
public sealed class RepeatedRows
{
    private readonly string fromName;
    private readonly int parents;
    private readonly IRowEncoding encoding;
    private readonly Func<string, IReadOnlyList<Datum[]>> read;
    private readonly IReadOnlyList<ExpressionType> types;
    private readonly int[] reads;
    private readonly RowWriter writer = new();

    /// <param name="from">The ordinal of the column that repeats.</param>
    /// <param name="treatment">What becomes of the child rows.</param>
    /// <param name="parents">How many columns the parent has.</param>
    /// <param name="read">Takes a value apart into the values of the columns behind the place.</param>
    /// <param name="types">What those values are; of a list's element, the text it was.</param>
    /// <param name="encoding">How rows hold values.</param>
    internal RepeatedRows(
        int from,
        TableTreatment treatment,
        int parents,
        Func<string, IReadOnlyList<Datum[]>> read,
        IReadOnlyList<ExpressionType> types,
        IRowEncoding encoding
    )
    {
        From = from;
        Treatment = treatment;
        fromName = treatment.Source.Columns[from].Name;
        this.parents = parents;
        reads =
        [
            .. treatment
                .Columns.SelectMany(column => column.Reads)
                .Concat(
                    treatment
                        .Keeps.Concat(treatment.OwnTables.Select(table => table.When).OfType<Expression>())
                        .SelectMany(condition => condition.Columns)
                )
                .Distinct(),
        ];
        this.read = read;
        this.types = types;
        this.encoding = encoding;
    }

    /// <summary>The ordinal of the column that repeats, at the source.</summary>
    public int From { get; }

    /// <summary>What becomes of the child rows.</summary>
    public TableTreatment Treatment { get; }

    /// <summary>Appends what a row of a load brings with it.</summary>
    internal void Load(Row row, ICollection<TreatedChange> into)
    {
        foreach (var child in Of(row))
        {
            Treatment.Load(child, into);
        }
    }

    /// <summary>
    /// Appends what becomes of the child rows, place by place, when a row becomes another; none where it was or is left out.
    /// </summary>
    internal void Treat(int relation, Row before, Row after, DateTimeOffset committedAt, ICollection<TreatedChange> into)
    {
        var (were, are) = (Of(before), Of(after));
        for (var i = 0; i < Math.Max(were.Count, are.Count); i++)
        {
            var (was, now) = (i < were.Count ? were[i] : default, i < are.Count ? are[i] : default);
            var kind =
                was.IsNone ? ChangeKind.Insert
                : now.IsNone ? ChangeKind.Delete
                : ChangeKind.Update;
            if (kind != ChangeKind.Update || !AreSame(was, now))
            {
                Treatment.Treat(new RowChange(kind, relation, was, now), committedAt, into);
            }
        }
    }

    /// <summary>
    /// Whether a child row has all that is read of it in common with another; what else its parent has does not matter to it.
    /// </summary>
    private bool AreSame(Row left, Row right) =>
        Array.TrueForAll(reads, ordinal =>
            left.KindAt(ordinal) == right.KindAt(ordinal) && left.ValueAt(ordinal).SequenceEqual(right.ValueAt(ordinal))
        );

    private List<Row> Of(Row row)
    {
        if (row.IsNone)
        {
            return [];
        }

        switch (row.KindAt(From))
        {
            case ValueKind.Null:
                return [];
            case ValueKind.Text:
                return [.. read(row.TextAt(From)).Select((values, i) => Child(row, i + 1, values))];
            case ValueKind.Absent:
                throw new EvaluationException($"the log does not carry {fromName} as it was");
            default:
                throw new EvaluationException($"{fromName} is not a text that could be taken apart");
        }
    }

    private Row Child(Row row, int ordinal, Datum[] values)
    {
        writer.Begin(parents + 1 + values.Length);
        writer.Values(row, 0, parents);
        encoding.Write(ExpressionType.Integer, Datum.Of(ordinal), writer);
        for (var i = 0; i < values.Length; i++)
        {
            encoding.Write(types[i], values[i], writer);
        }

        return writer.ToRow();
    }
}
