using Vestige.Core.Changes;
using Vestige.Core.Expressions;
using Vestige.Core.Types;

namespace Vestige.Core.Treatments;

/// <summary>
/// Writes the values of a column as the rows of another engine hold them: the same value, and where a key may be made of it, always the
/// same bytes for it. What is none of the column's type, or would be another value there, is refused. Safe for several threads.
/// </summary>
/// <param name="column">What the column is called, for messages.</param>
/// <param name="type">What its values are.</param>
/// <param name="from">How the rows that are read hold values.</param>
/// <param name="into">How those that are written do.</param>
public sealed class ValueTranscriber(string column, LogicalType type, IRowEncoding from, IRowEncoding into)
{
    /// <summary>
    /// Whether values that are different as they are read stay different; not where one value may be written in two ways and is written
    /// in one.
    /// </summary>
    public bool KeepsApart => from.HasOneEncoding(type) || !into.HasOneEncoding(type);

    /// <summary>Whether a value can be written back to the same bytes, so that a key is the same row's on both sides.</summary>
    public bool GoesBack =>
        type.Kind
            is not (
                LogicalKind.Decimal
                or LogicalKind.Real
                or LogicalKind.Timestamp
                or LogicalKind.Instant
                or LogicalKind.Json
                or LogicalKind.Any
            );

    /// <summary>The way back.</summary>
    public ValueTranscriber Back => new(column, type, into, from);

    /// <summary>Writes one value of a row. Throws <see cref="EvaluationException"/>.</summary>
    public void Write(Row row, int ordinal, RowWriter writer)
    {
        ArgumentNullException.ThrowIfNull(writer);
        var kind = row.KindAt(ordinal);
        if (kind is ValueKind.Null or ValueKind.Absent)
        {
            writer.Value(kind, []);
        }
        else if (!into.TryWrite(type, row, ordinal, from, writer))
        {
            throw new EvaluationException(
                type.Kind == LogicalKind.Real && IsNaN(row, ordinal, kind)
                    ? $"{column} is NaN, which the target's engine takes for NULL"
                    : $"the value of {column} is not of the type {type.Word}, as the target needs it"
            );
        }
    }

    private static bool IsNaN(Row row, int ordinal, ValueKind kind) =>
        kind == ValueKind.Text && row.ValueAt(ordinal).SequenceEqual("NaN"u8);
}
