using Vestige.Core.Types;

namespace Vestige.Core.Expressions;

/// <summary>What a column's declared type means to an expression.</summary>
/// <param name="Type">The type its values have there.</param>
/// <param name="Single">Its values are IEEE 754 binary32: read as such and then widened, as a database does.</param>
/// <param name="Padded">Blanks at the end do not count.</param>
/// <param name="MayBeAbsent">A log may leave its value out of a change when it did not change.</param>
public readonly record struct ColumnMeaning(ExpressionType Type, bool Single = false, bool Padded = false, bool MayBeAbsent = false)
{
    /// <summary>What values of a logical type are to an expression.</summary>
    public static ColumnMeaning Of(LogicalType type)
    {
        ArgumentNullException.ThrowIfNull(type);
        return type.Kind switch
        {
            LogicalKind.Boolean => new ColumnMeaning(ExpressionType.Boolean),
            LogicalKind.Integer => new ColumnMeaning(ExpressionType.Integer),
            LogicalKind.Decimal => new ColumnMeaning(ExpressionType.Decimal),
            LogicalKind.Real => new ColumnMeaning(ExpressionType.Real, Single: type.Bits == 32),
            LogicalKind.Text => new ColumnMeaning(ExpressionType.Text, Padded: type.Padded),
            LogicalKind.Bytes => new ColumnMeaning(ExpressionType.Bytes),
            LogicalKind.Date => new ColumnMeaning(ExpressionType.Date),
            LogicalKind.Timestamp => new ColumnMeaning(ExpressionType.Timestamp),
            LogicalKind.Instant => new ColumnMeaning(ExpressionType.Instant),
            _ => new ColumnMeaning(ExpressionType.Other),
        };
    }
}
