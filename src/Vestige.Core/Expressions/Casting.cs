namespace Vestige.Core.Expressions;

/// <summary>Makes values of one type from those of another, by name or where two sides must meet.</summary>
internal static class Casting
{
    /// <summary>Brings two parts to one type, as SQL does; throws when there is none.</summary>
    public static (Bound Left, Bound Right) Meet(Bound left, Bound right, string what)
    {
        if (left.Type == right.Type && left.Type != ExpressionType.Other)
        {
            return (left, right);
        }

        if (left.Literal is not null && right.Type != ExpressionType.Unknown)
        {
            return (Literal(left, right.Type), right);
        }

        if (right.Literal is not null && left.Type != ExpressionType.Unknown)
        {
            return (left, Literal(right, left.Type));
        }

        if (Common(left.Type, right.Type) is { } common)
        {
            return (Widen(left, common), Widen(right, common));
        }

        var known =
            left.Type == ExpressionType.Other || right.Type == ExpressionType.Other
                ? "Take it as text with CAST(... AS text)."
                : "Bring one of them to the other's type with CAST.";
        throw new ExpressionException(
            $"{left.Type.Word()} and {right.Type.Word()} do not go together in {what}. {known}",
            left.Place,
            right.End - left.Place
        );
    }

    /// <summary>Brings all parts to one type.</summary>
    public static IReadOnlyList<Bound> Meet(IReadOnlyList<Bound> parts, string what)
    {
        var first = parts.FirstOrDefault(part => part.Literal is null && part.Type != ExpressionType.Unknown) ?? parts[0];
        foreach (var part in parts)
        {
            (first, _) = Meet(first, part, what);
        }

        return [.. parts.Select(part => Meet(part, first, what).Left)];
    }

    /// <summary>A part as one of a wanted type, where that loses nothing; throws otherwise.</summary>
    public static Bound Expect(Bound part, ExpressionType wanted, string what)
    {
        if (part.Type == wanted)
        {
            return part;
        }

        if (part.Literal is not null)
        {
            return Literal(part, wanted);
        }

        return Common(part.Type, wanted) == wanted
            ? Widen(part, wanted)
            : throw part.Wrong($"{what} needs {wanted.Word()}; this is {part.Type.Word()}.");
    }

    /// <summary>A cast by name.</summary>
    public static Bound Cast(Bound part, ExpressionType to)
    {
        if (part.Type == to)
        {
            return part;
        }

        if (part.Literal is not null)
        {
            return Literal(part, to);
        }

        if (part.Type == ExpressionType.Unknown)
        {
            return part.With(to, part.Run);
        }

        var cast = Of(part.Type, to) ?? throw part.Wrong($"{part.Type.Word()} cannot be made {to.Word()}.");
        var run = part.Run;
        return part.With(to, row => run(row) is { HasValue: true } value ? cast(value) : Datum.Null);
    }

    private static ExpressionType? Common(ExpressionType left, ExpressionType right) =>
        (left, right) switch
        {
            (ExpressionType.Other, ExpressionType.Other) => null,
            (ExpressionType.Unknown, _) => right,
            (_, ExpressionType.Unknown) => left,
            _ when left == right => left,
            _ when left.IsNumber() && right.IsNumber() => left == ExpressionType.Real || right == ExpressionType.Real
                ? ExpressionType.Real
                : ExpressionType.Decimal,
            (ExpressionType.Date, ExpressionType.Timestamp) or (ExpressionType.Timestamp, ExpressionType.Date) => ExpressionType.Timestamp,
            _ => null,
        };

    private static Bound Widen(Bound part, ExpressionType to) => Cast(part, to);

    private static Bound Literal(Bound part, ExpressionType to)
    {
        if (to == ExpressionType.Other)
        {
            throw part.Wrong("The other side is of a type that expressions do not know. Take it as text with CAST(... AS text).");
        }

        var value =
            to == ExpressionType.Date
            && CivilTime.ParseTimestamp(part.Literal!) is { } time
            && CivilTime.StartOf(CivilTime.DayOf(time)) == time
                ? Datum.Of(CivilTime.DayOf(time))
                : ValueText.Read(to, part.Literal!);
        return value.IsNull ? throw part.Wrong($"'{part.Literal}' is not {to.Word()}.") : part.With(to, _ => value);
    }

    private static Func<Datum, Datum>? Of(ExpressionType from, ExpressionType to) =>
        (from, to) switch
        {
            (_, ExpressionType.Text) => value => Datum.Of(ValueText.Write(from, value)!),
            (ExpressionType.Text or ExpressionType.Other, ExpressionType.Bytes) => null,
            (ExpressionType.Text, _) => value =>
                ValueText.Read(to, value.Text.Trim()) is { HasValue: true } read
                    ? read
                    : throw new EvaluationException($"a text is not {to.Word()}"),
            (ExpressionType.Integer, ExpressionType.Decimal) => value => Datum.Of(ExactDecimal.Of(value.Integer)),
            (ExpressionType.Integer, ExpressionType.Real) => value => Datum.Of((double)value.Integer),
            (ExpressionType.Integer, ExpressionType.Boolean) => value => Datum.Of(value.Integer != 0),
            (ExpressionType.Decimal, ExpressionType.Real) => value => Datum.Of(value.Decimal.ToDouble()),
            (ExpressionType.Decimal, ExpressionType.Integer) => value =>
                value.Decimal.ToInteger() is { } whole
                    ? Datum.Of(whole)
                    : throw new EvaluationException("a number does not fit into integer"),
            (ExpressionType.Real, ExpressionType.Integer) => value =>
                Math.Round(value.Real, MidpointRounding.ToEven) is >= -9223372036854775808.0 and < 9223372036854775808.0 and var whole
                    ? Datum.Of((long)whole)
                    : throw new EvaluationException("a number does not fit into integer"),
            (ExpressionType.Real, ExpressionType.Decimal) => value =>
                ValueText.Read(ExpressionType.Decimal, ValueText.Write(ExpressionType.Real, value)!),
            (ExpressionType.Boolean, ExpressionType.Integer) => value => Datum.Of(value.Truth ? 1L : 0L),
            (ExpressionType.Date, ExpressionType.Timestamp) => value =>
                CivilTime.StartOf(value.Integer) is { } time ? Datum.Of(time) : throw new EvaluationException("a date is out of range"),
            (ExpressionType.Timestamp, ExpressionType.Date) => value => Datum.Of(CivilTime.DayOf(value.Integer)),
            _ => null,
        };
}
