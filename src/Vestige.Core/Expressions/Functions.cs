using System.Text;

namespace Vestige.Core.Expressions;

/// <summary>The functions that expressions know. Of those not named otherwise, the value is NULL where an argument is.</summary>
internal static class Functions
{
    private static readonly Dictionary<string, Maker> All = new(StringComparer.OrdinalIgnoreCase)
    {
        ["lower"] = Of([ExpressionType.Text], ExpressionType.Text, args => Datum.Of(args[0].Text.ToLowerInvariant())),
        ["upper"] = Of([ExpressionType.Text], ExpressionType.Text, args => Datum.Of(args[0].Text.ToUpperInvariant())),
        ["length"] = Of([ExpressionType.Text], ExpressionType.Integer, args => Datum.Of((long)args[0].Text.EnumerateRunes().Count())),
        ["trim"] = Of([ExpressionType.Text], ExpressionType.Text, args => Datum.Of(args[0].Text.Trim(' '))),
        ["left"] = Of([ExpressionType.Text, ExpressionType.Integer], ExpressionType.Text, args =>
            Datum.Of(Left(args[0].Text, args[1].Integer))
        ),
        ["right"] = Of([ExpressionType.Text, ExpressionType.Integer], ExpressionType.Text, args =>
            Datum.Of(Right(args[0].Text, args[1].Integer))
        ),
        ["substring"] = Of([ExpressionType.Text, ExpressionType.Integer, ExpressionType.Integer], ExpressionType.Text, args =>
            Datum.Of(Substring(args[0].Text, args[1].Integer, args[2].Integer))
        ),
        ["replace"] = Of([ExpressionType.Text, ExpressionType.Text, ExpressionType.Text], ExpressionType.Text, args =>
            Datum.Of(args[1].Text.Length == 0 ? args[0].Text : args[0].Text.Replace(args[1].Text, args[2].Text, StringComparison.Ordinal))
        ),
        ["abs"] = Absolute,
        ["round"] = Of([ExpressionType.Decimal, ExpressionType.Integer], ExpressionType.Decimal, args =>
            Datum.Of(args[0].Decimal.Round((int)Math.Clamp(args[1].Integer, -2000, 2000)))
        ),
        ["floor"] = Of([ExpressionType.Decimal], ExpressionType.Decimal, args => Datum.Of(args[0].Decimal.Floor())),
        ["year"] = Of([ExpressionType.Date], ExpressionType.Integer, args =>
            Datum.Of(Civil(args[0]).Year is <= 0 and var year ? year - 1 : Civil(args[0]).Year)
        ),
        ["month"] = Of([ExpressionType.Date], ExpressionType.Integer, args => Datum.Of((long)Civil(args[0]).Month)),
        ["day"] = Of([ExpressionType.Date], ExpressionType.Integer, args => Datum.Of((long)Civil(args[0]).Day)),
        ["utc"] = Of([ExpressionType.Instant], ExpressionType.Timestamp, args => args[0]),
        ["coalesce"] = Coalesce,
        ["nullif"] = NullIf,
        ["greatest"] = (name, parts, place, end) => Extreme(name, parts, place, end, 1),
        ["least"] = (name, parts, place, end) => Extreme(name, parts, place, end, -1),
    };

    private delegate Bound Maker(string name, IReadOnlyList<Bound> parts, int place, int end);

    public static IEnumerable<string> Names => All.Keys.Order();

    public static bool Knows(string name) => All.ContainsKey(name);

    public static Bound Call(Token name, IReadOnlyList<Bound> parts, int end) =>
        All.TryGetValue(name.Text, out var maker)
            ? maker(name.Text.ToLowerInvariant(), parts, name.Place, end)
            : throw new ExpressionException(
                $"There is no function {name.Text}. Known are {string.Join(", ", Names)}.",
                name.Place,
                name.Length
            );

    private static Maker Of(ExpressionType[] types, ExpressionType result, Func<Datum[], Datum> work) =>
        (name, parts, place, end) =>
        {
            if (parts.Count != types.Length)
            {
                throw Count(name, types.Length, parts.Count, place, end);
            }

            Evaluator[] runs = [.. parts.Select((part, i) => Casting.Expect(Narrowed(part, types[i]), types[i], name).Run)];
            return new Bound(
                result,
                row =>
                {
                    var args = new Datum[runs.Length];
                    for (var i = 0; i < runs.Length; i++)
                    {
                        args[i] = runs[i](row);
                        if (args[i].IsNull)
                        {
                            return Datum.Null;
                        }
                    }

                    return work(args);
                },
                place,
                end
            );
        };

    /// <summary>The parts of a date can be asked of a time as well.</summary>
    private static Bound Narrowed(Bound part, ExpressionType wanted) =>
        part.Type == ExpressionType.Timestamp && wanted == ExpressionType.Date ? Casting.Cast(part, ExpressionType.Date) : part;

    private static Bound Absolute(string name, IReadOnlyList<Bound> parts, int place, int end)
    {
        if (parts.Count != 1)
        {
            throw Count(name, 1, parts.Count, place, end);
        }

        var part = parts[0];
        var negated = Arithmetic.Negated(part, place).Run;
        var run = part.Run;
        Func<Datum, bool> below = part.Type switch
        {
            ExpressionType.Integer => value => value.Integer < 0,
            ExpressionType.Decimal => value => value.Decimal is { Sign: < 0 },
            _ => value => value.Real < 0,
        };
        return new Bound(part.Type, row => run(row) is { HasValue: true } value && below(value) ? negated(row) : run(row), place, end);
    }

    private static Bound Coalesce(string name, IReadOnlyList<Bound> parts, int place, int end)
    {
        if (parts.Count == 0)
        {
            throw Count(name, 1, 0, place, end);
        }

        var met = Casting.Meet(parts, name);
        Evaluator[] runs = [.. met.Select(part => part.Run)];
        return new Bound(
            met[0].Type,
            row =>
            {
                foreach (var run in runs)
                {
                    if (run(row) is { HasValue: true } value)
                    {
                        return value;
                    }
                }

                return Datum.Null;
            },
            place,
            end
        );
    }

    private static Bound NullIf(string name, IReadOnlyList<Bound> parts, int place, int end)
    {
        if (parts.Count != 2)
        {
            throw Count(name, 2, parts.Count, place, end);
        }

        var (left, right) = Casting.Meet(parts[0], parts[1], name);
        var (first, second, order) = (left.Run, right.Run, Comparing.Of(left.Type));
        return new Bound(
            left.Type,
            row =>
                first(row) is { HasValue: true } value && !(second(row) is { HasValue: true } other && order(value, other) == 0)
                    ? value
                    : Datum.Null,
            place,
            end
        );
    }

    /// <summary>Of the arguments that are not NULL; NULL only when all are.</summary>
    private static Bound Extreme(string name, IReadOnlyList<Bound> parts, int place, int end, int sign)
    {
        if (parts.Count == 0)
        {
            throw Count(name, 1, 0, place, end);
        }

        var met = Casting.Meet(parts, name);
        var order = Comparing.Of(met[0].Type);
        Evaluator[] runs = [.. met.Select(part => part.Run)];
        return new Bound(
            met[0].Type,
            row =>
            {
                var best = Datum.Null;
                foreach (var run in runs)
                {
                    if (run(row) is { HasValue: true } value && (best.IsNull || order(value, best) * sign > 0))
                    {
                        best = value;
                    }
                }

                return best;
            },
            place,
            end
        );
    }

    private static ExpressionException Count(string name, int wanted, int found, int place, int end) =>
        new($"{name} takes {wanted} argument{(wanted == 1 ? "" : "s")}; there {(found == 1 ? "is" : "are")} {found}.", place, end - place);

    private static (long Year, int Month, int Day) Civil(Datum date) =>
        date.Integer is CivilTime.Infinity or CivilTime.NegativeInfinity
            ? throw new EvaluationException("an infinite date has no year, month or day")
            : CivilTime.DateOf(date.Integer);

    /// <summary>The first characters; with a negative count, all but the last.</summary>
    private static string Left(string text, long count)
    {
        var runes = text.EnumerateRunes().ToList();
        return Join(runes.Take((int)Math.Clamp(count >= 0 ? count : runes.Count + count, 0, runes.Count)));
    }

    private static string Right(string text, long count)
    {
        var runes = text.EnumerateRunes().ToList();
        return Join(runes.Skip((int)Math.Clamp(count >= 0 ? runes.Count - count : -count, 0, runes.Count)));
    }

    /// <summary>From a place, counted from 1, that many characters; places before the first count.</summary>
    private static string Substring(string text, long from, long count)
    {
        if (count < 0)
        {
            throw new EvaluationException("substring takes no negative count");
        }

        var runes = text.EnumerateRunes().ToList();
        var end = (Int128)from + count;
        var first = Int128.Max(from, 1);
        return end <= first
            ? ""
            : Join(runes.Skip((int)Int128.Min(first - 1, runes.Count)).Take((int)Int128.Min(end - first, runes.Count)));
    }

    private static string Join(IEnumerable<Rune> runes) => string.Concat(runes);
}
