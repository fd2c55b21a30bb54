namespace Vestige.Core.Expressions;

/// <summary>The order of values of one type, NULL apart.</summary>
internal static class Comparing
{
    public static Comparison<Datum> Of(ExpressionType type) =>
        type switch
        {
            ExpressionType.Decimal => (left, right) => left.Decimal.CompareTo(right.Decimal),
            ExpressionType.Real => (left, right) => Reals(left.Real, right.Real),
            ExpressionType.Text or ExpressionType.Unknown => (left, right) => CodePoints(left.Text, right.Text),
            ExpressionType.Bytes => (left, right) => left.Bytes.AsSpan().SequenceCompareTo(right.Bytes),
            _ => (left, right) => left.Integer.CompareTo(right.Integer),
        };

    /// <summary>NaN equals itself and is greater than all others; the two zeros are equal.</summary>
    private static int Reals(double left, double right) =>
        double.IsNaN(left) || double.IsNaN(right) ? double.IsNaN(left).CompareTo(double.IsNaN(right))
        : left.CompareTo(right) is var order && left == right ? 0
        : order;

    /// <summary>UTF-16 orders surrogates before U+E000 to U+FFFF; code points, as UTF-8 does, after them.</summary>
    private static int CodePoints(string left, string right)
    {
        var shared = left.AsSpan().CommonPrefixLength(right);
        if (shared == left.Length || shared == right.Length)
        {
            return left.Length.CompareTo(right.Length);
        }

        var (a, b) = (left[shared], right[shared]);
        return char.IsSurrogate(a) == char.IsSurrogate(b) ? a.CompareTo(b)
            : char.IsSurrogate(a) ? 1
            : -1;
    }
}
