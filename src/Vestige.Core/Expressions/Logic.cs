namespace Vestige.Core.Expressions;

/// <summary>Truth of three values (ISO/IEC 9075-2, tables of AND, OR, NOT and IS), and what comparisons make of NULL.</summary>
internal static class Logic
{
    private static readonly Datum True = Datum.Of(true);
    private static readonly Datum False = Datum.Of(false);

    public static Evaluator Not(Evaluator part) => row => part(row) is { HasValue: true } value ? Datum.Of(!value.Truth) : Datum.Null;

    /// <summary>The right side is not reckoned where the left decides.</summary>
    public static Evaluator And(Evaluator left, Evaluator right) =>
        row =>
        {
            var first = left(row);
            if (first is { HasValue: true, Truth: false })
            {
                return False;
            }

            var second = right(row);
            return second is { HasValue: true, Truth: false } ? False
                : first.HasValue && second.HasValue ? True
                : Datum.Null;
        };

    public static Evaluator Or(Evaluator left, Evaluator right) =>
        row =>
        {
            var first = left(row);
            if (first is { HasValue: true, Truth: true })
            {
                return True;
            }

            var second = right(row);
            return second is { HasValue: true, Truth: true } ? True
                : first.HasValue && second.HasValue ? False
                : Datum.Null;
        };

    public static Evaluator Compare(Evaluator left, Evaluator right, Comparison<Datum> order, Func<int, bool> holds) =>
        row =>
        {
            var first = left(row);
            var second = right(row);
            return first.HasValue && second.HasValue ? Datum.Of(holds(order(first, second))) : Datum.Null;
        };

    /// <summary>Never NULL: two NULLs are not distinct.</summary>
    public static Evaluator Distinct(Evaluator left, Evaluator right, Comparison<Datum> order, bool wanted) =>
        row =>
        {
            var first = left(row);
            var second = right(row);
            var distinct = first.HasValue != second.HasValue || (first.HasValue && order(first, second) != 0);
            return Datum.Of(distinct == wanted);
        };

    public static Evaluator IsNull(Evaluator part, bool wanted) => row => Datum.Of(part(row).IsNull == wanted);

    /// <summary>IS TRUE, IS FALSE and, for null, IS UNKNOWN.</summary>
    public static Evaluator Is(Evaluator part, bool? truth, bool wanted) =>
        row =>
        {
            var value = part(row);
            var isIt = truth is null ? value.IsNull : value.HasValue && value.Truth == truth;
            return Datum.Of(isIt == wanted);
        };
}
