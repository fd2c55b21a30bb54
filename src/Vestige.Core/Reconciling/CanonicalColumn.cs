using Vestige.Core.Expressions;
using Vestige.Core.Schemas;

namespace Vestige.Core.Reconciling;

/// <summary>How the values of one column are compared with those of another, in databases of unlike engines.</summary>
/// <param name="Name">The column.</param>
/// <param name="Kind">As what.</param>
/// <param name="Type">What its values are in the rows of its side.</param>
public sealed record CanonicalColumn(string Name, CanonicalKind Kind, ExpressionType Type)
{
    /// <summary>Both sides of a pair of columns; null when their values cannot be compared.</summary>
    public static (CanonicalColumn Here, CanonicalColumn There)? Of(
        Column here,
        ColumnMeaning means,
        Column there,
        ColumnMeaning meansThere
    )
    {
        ArgumentNullException.ThrowIfNull(here);
        ArgumentNullException.ThrowIfNull(there);
        return KindOf(here, means, there, meansThere) is { } kind
            ? (new CanonicalColumn(here.Name, kind, means.Type), new CanonicalColumn(there.Name, kind, meansThere.Type))
            : null;
    }

    /// <summary>A column whose values on both sides are of one meaning, though the engines write them otherwise.</summary>
    public static CanonicalColumn Of(string name, ColumnMeaning meaning) => new(name, KindOf(meaning), meaning.Type);

    private static CanonicalKind KindOf(ColumnMeaning meaning) =>
        meaning switch
        {
            { Json: true } => CanonicalKind.Json,
            { Type: ExpressionType.Boolean } => CanonicalKind.Boolean,
            { Type: ExpressionType.Integer or ExpressionType.Decimal } => CanonicalKind.Decimal,
            { Type: ExpressionType.Real } => meaning.Single ? CanonicalKind.Single : CanonicalKind.Real,
            { Type: ExpressionType.Date } => CanonicalKind.Date,
            { Type: ExpressionType.Timestamp or ExpressionType.Instant } => CanonicalKind.Moment,
            { Type: ExpressionType.Bytes } => CanonicalKind.Bytes,
            _ => meaning.Padded ? CanonicalKind.Padded : CanonicalKind.Text,
        };

    private static CanonicalKind? KindOf(Column here, ColumnMeaning means, Column there, ColumnMeaning meansThere)
    {
        if (IsJson(here) || IsJson(there))
        {
            return IsTextual(means) && IsTextual(meansThere) ? CanonicalKind.Json : null;
        }

        return (means.Type, meansThere.Type) switch
        {
            (ExpressionType.Boolean, ExpressionType.Boolean) => CanonicalKind.Boolean,
            (ExpressionType.Integer or ExpressionType.Decimal, ExpressionType.Integer or ExpressionType.Decimal) => CanonicalKind.Decimal,
            (ExpressionType.Real, ExpressionType.Real) => means.Single || meansThere.Single ? CanonicalKind.Single : CanonicalKind.Real,
            (ExpressionType.Text, ExpressionType.Text) => means.Padded || meansThere.Padded ? CanonicalKind.Padded : CanonicalKind.Text,
            (ExpressionType.Date, ExpressionType.Date) => CanonicalKind.Date,
            (ExpressionType.Timestamp or ExpressionType.Instant, ExpressionType.Timestamp or ExpressionType.Instant) =>
                CanonicalKind.Moment,
            (ExpressionType.Bytes, ExpressionType.Bytes or ExpressionType.Other) or (ExpressionType.Other, ExpressionType.Bytes) =>
                CanonicalKind.Bytes,
            (ExpressionType.Other or ExpressionType.Text, ExpressionType.Other or ExpressionType.Text) => CanonicalKind.Text,
            _ => null,
        };
    }

    private static bool IsJson(Column column) =>
        column.Type.Contains("json", StringComparison.OrdinalIgnoreCase) && !column.Type.EndsWith(']');

    private static bool IsTextual(ColumnMeaning meaning) =>
        meaning.Type is ExpressionType.Text or ExpressionType.Other or ExpressionType.Decimal;
}
