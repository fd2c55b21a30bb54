namespace Vestige.Core.Expressions;

/// <summary>The four kinds of reckoning and the rest, by type.</summary>
internal static class Arithmetic
{
    private const string Overflow = "a number does not fit into integer";

    public static Bound Of(string sign, Bound left, Bound right)
    {
        if (Days(sign, left, right) is { } days)
        {
            return days;
        }

        (left, right) = Casting.Meet(left, right, $"'{sign}'");
        if (left.Literal is not null || left.Type == ExpressionType.Unknown)
        {
            (left, right) = (
                Casting.Expect(left, ExpressionType.Decimal, $"'{sign}'"),
                Casting.Expect(right, ExpressionType.Decimal, $"'{sign}'")
            );
        }

        if (!left.Type.IsNumber() || (sign == "%" && left.Type == ExpressionType.Real))
        {
            throw new ExpressionException($"'{sign}' does not work on {left.Type.Word()}.", left.Place, right.End - left.Place);
        }

        var work = left.Type switch
        {
            ExpressionType.Integer => Integers(sign),
            ExpressionType.Decimal => Decimals(sign),
            _ => Reals(sign),
        };
        return Both(left, right, left.Type, work);
    }

    public static Bound Negated(Bound part, int place)
    {
        if (part.Literal is not null || !part.Type.IsNumber())
        {
            throw part.Wrong($"'-' does not work on {part.Type.Word()}.");
        }

        var run = part.Run;
        Func<Datum, Datum> negate = part.Type switch
        {
            ExpressionType.Integer => value =>
                value.Integer == long.MinValue ? throw new EvaluationException(Overflow) : Datum.Of(-value.Integer),
            ExpressionType.Decimal => value => Datum.Of(-value.Decimal),
            _ => value => Datum.Of(-value.Real),
        };
        return new Bound(part.Type, row => run(row) is { HasValue: true } value ? negate(value) : Datum.Null, place, part.End);
    }

    internal static Bound Both(Bound left, Bound right, ExpressionType type, Func<Datum, Datum, Datum> work)
    {
        var (first, second) = (left.Run, right.Run);
        return new Bound(
            type,
            row =>
            {
                var one = first(row);
                var other = second(row);
                return one.HasValue && other.HasValue ? work(one, other) : Datum.Null;
            },
            left.Place,
            right.End
        );
    }

    /// <summary>A date and a number of days; two dates and the days between.</summary>
    private static Bound? Days(string sign, Bound left, Bound right) =>
        (left.Type, sign, right.Type) switch
        {
            (ExpressionType.Date, "+" or "-", ExpressionType.Integer) => Both(left, right, ExpressionType.Date, (day, days) =>
                Datum.Of(Shift(day.Integer, sign == "+" ? days.Integer : -days.Integer))
            ),
            (ExpressionType.Integer, "+", ExpressionType.Date) => Both(left, right, ExpressionType.Date, (days, day) =>
                Datum.Of(Shift(day.Integer, days.Integer))
            ),
            (ExpressionType.Date, "-", ExpressionType.Date) => Both(left, right, ExpressionType.Integer, Between),
            _ => null,
        };

    private static long Shift(long day, long days)
    {
        if (day is CivilTime.Infinity or CivilTime.NegativeInfinity)
        {
            return day;
        }

        var shifted = (Int128)day + days;
        return shifted > -2_000_000_000 && shifted < 2_200_000_000
            ? (long)shifted
            : throw new EvaluationException("a date is out of range");
    }

    private static Datum Between(Datum later, Datum earlier) =>
        later.Integer is CivilTime.Infinity or CivilTime.NegativeInfinity
        || earlier.Integer is CivilTime.Infinity or CivilTime.NegativeInfinity
            ? throw new EvaluationException("the days to an infinite date cannot be counted")
            : Datum.Of(later.Integer - earlier.Integer);

    private static Func<Datum, Datum, Datum> Integers(string sign) =>
        (left, right) =>
        {
            try
            {
                return Datum.Of(
                    sign switch
                    {
                        "+" => checked(left.Integer + right.Integer),
                        "-" => checked(left.Integer - right.Integer),
                        "*" => checked(left.Integer * right.Integer),
                        "/" => left.Integer / right.Integer,
                        _ => right.Integer == -1 ? 0 : left.Integer % right.Integer,
                    }
                );
            }
            catch (OverflowException)
            {
                throw new EvaluationException(Overflow);
            }
            catch (DivideByZeroException)
            {
                throw new EvaluationException("division by zero");
            }
        };

    private static Func<Datum, Datum, Datum> Decimals(string sign) =>
        (left, right) =>
        {
            try
            {
                return Datum.Of(
                    sign switch
                    {
                        "+" => left.Decimal + right.Decimal,
                        "-" => left.Decimal - right.Decimal,
                        "*" => left.Decimal * right.Decimal,
                        "/" => left.Decimal / right.Decimal,
                        _ => left.Decimal % right.Decimal,
                    }
                );
            }
            catch (DivideByZeroException)
            {
                throw new EvaluationException("division by zero");
            }
        };

    private static Func<Datum, Datum, Datum> Reals(string sign) =>
        (left, right) =>
        {
            var (first, second) = (left.Real, right.Real);
            if (sign == "/" && second == 0)
            {
                throw new EvaluationException("division by zero");
            }

            var value = sign switch
            {
                "+" => first + second,
                "-" => first - second,
                "*" => first * second,
                _ => first / second,
            };
            return double.IsInfinity(value) && double.IsFinite(first) && double.IsFinite(second)
                ? throw new EvaluationException("a number does not fit into real")
                : Datum.Of(value);
        };
}
