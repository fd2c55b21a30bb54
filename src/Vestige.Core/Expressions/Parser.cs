using System.Globalization;

namespace Vestige.Core.Expressions;

/// <summary>
/// Understands tokens by descent: from OR, which binds loosest, over AND, NOT, IS, comparison, BETWEEN and its like, || and
/// the signs of reckoning to single values. Types are settled on the way, so that what is wrong is told at its place.
/// </summary>
internal sealed class Parser(IReadOnlyList<Token> tokens, IReadOnlyList<ExpressionColumn> columns)
{
    /// <summary>How deep parentheses, NOT and signs may stand in each other; beyond it the thread's stack would decide.</summary>
    private const int Deepest = 60;

    private static readonly HashSet<string> Reserved = new(StringComparer.OrdinalIgnoreCase)
    {
        "and", "or", "not", "is", "null", "true", "false", "in", "between", "like", "case", "when", "then", "else", "end", "cast", "as", "distinct", "from", "unknown",
    };

    private int at;
    private int depth;

    /// <summary>The places of the row that the columns met depend on.</summary>
    public HashSet<int> Used { get; } = [];

    private Token Here => tokens[at];

    public Bound ParseWhole()
    {
        if (Here.Kind == TokenKind.End)
        {
            throw new ExpressionException("There is nothing here.", 0, 0);
        }

        var whole = Or();
        return Here.Kind == TokenKind.End ? Settled(whole) : throw Unexpected("the end, or an operator");
    }

    /// <summary>A literal of which nobody wanted another type is text.</summary>
    private static Bound Settled(Bound part) => part.Literal is null ? part : part with { Literal = null };

    private Bound Or()
    {
        using var level = Deeper();
        var left = And();
        while (TakeWord("or"))
        {
            left = Joined(left, And(), "OR", Logic.Or);
        }

        return left;
    }

    private Bound And()
    {
        var left = Not();
        while (TakeWord("and"))
        {
            left = Joined(left, Not(), "AND", Logic.And);
        }

        return left;
    }

    private static Bound Joined(Bound left, Bound right, string word, Func<Evaluator, Evaluator, Evaluator> join)
    {
        var (first, second) = (Casting.Expect(left, ExpressionType.Boolean, word), Casting.Expect(right, ExpressionType.Boolean, word));
        return new Bound(ExpressionType.Boolean, join(first.Run, second.Run), left.Place, right.End);
    }

    private Bound Not()
    {
        var place = Here.Place;
        if (!TakeWord("not"))
        {
            return Is();
        }

        using var level = Deeper();
        var part = Casting.Expect(Not(), ExpressionType.Boolean, "NOT");
        return new Bound(ExpressionType.Boolean, Logic.Not(part.Run), place, part.End);
    }

    private Bound Is()
    {
        var left = Comparison();
        while (TakeWord("is"))
        {
            left = IsWhat(left, !TakeWord("not"));
        }

        return left;
    }

    private Bound IsWhat(Bound left, bool wanted)
    {
        var word = Take();
        if (word.IsWord("null"))
        {
            return new Bound(ExpressionType.Boolean, Logic.IsNull(left.Run, wanted), left.Place, word.End);
        }

        if (word.IsWord("true") || word.IsWord("false") || word.IsWord("unknown"))
        {
            var part = Casting.Expect(left, ExpressionType.Boolean, "IS");
            bool? truth = word.IsWord("unknown") ? null : word.IsWord("true");
            return new Bound(ExpressionType.Boolean, Logic.Is(part.Run, truth, wanted), left.Place, word.End);
        }

        if (!word.IsWord("distinct") || !TakeWord("from"))
        {
            throw new ExpressionException("After IS comes NULL, TRUE, FALSE, UNKNOWN or DISTINCT FROM.", word.Place, word.Length);
        }

        var (first, second) = Casting.Meet(left, Comparison(), "IS DISTINCT FROM");
        return new Bound(ExpressionType.Boolean, Logic.Distinct(first.Run, second.Run, Comparing.Of(first.Type), wanted), left.Place, second.End);
    }

    private Bound Comparison()
    {
        var left = Among();
        if (Here.Kind == TokenKind.Sign && Holds(Here.Text) is { } holds)
        {
            var sign = Take();
            left = Compared(left, Among(), sign.Text, holds);
            if (Here.Kind == TokenKind.Sign && Holds(Here.Text) is not null)
            {
                throw new ExpressionException("Comparisons are not chained; join them with AND.", Here.Place, Here.Length);
            }
        }

        return left;
    }

    private static Func<int, bool>? Holds(string sign) => sign switch
    {
        "=" => order => order == 0,
        "<>" or "!=" => order => order != 0,
        "<" => order => order < 0,
        "<=" => order => order <= 0,
        ">" => order => order > 0,
        ">=" => order => order >= 0,
        _ => null,
    };

    private static Bound Compared(Bound left, Bound right, string sign, Func<int, bool> holds)
    {
        var (first, second) = Casting.Meet(left, right, $"'{sign}'");
        return first.Type == ExpressionType.Other
            ? throw first.Wrong("This is of a type that expressions do not know. Take it as text with CAST(... AS text).")
            : new Bound(ExpressionType.Boolean, Logic.Compare(first.Run, second.Run, Comparing.Of(first.Type), holds), left.Place, right.End);
    }

    private Bound Among()
    {
        var left = Joining();
        while (true)
        {
            var negated = Here.IsWord("not") && (tokens[at + 1].IsWord("in") || tokens[at + 1].IsWord("between") || tokens[at + 1].IsWord("like"));
            if (negated)
            {
                at++;
            }

            if (TakeWord("in"))
            {
                left = In(left);
            }
            else if (TakeWord("between"))
            {
                var low = Joining();
                ExpectWord("and");
                left = Joined(Compared(left, low, "BETWEEN", order => order >= 0), Compared(left, Joining(), "BETWEEN", order => order <= 0), "BETWEEN", Logic.And);
            }
            else if (TakeWord("like"))
            {
                left = Like(left, Joining());
            }
            else
            {
                return left;
            }

            left = negated ? left.With(ExpressionType.Boolean, Logic.Not(left.Run)) : left;
        }
    }

    private Bound In(Bound left)
    {
        ExpectSign("(");
        Bound? any = null;
        do
        {
            var equal = Compared(left, Or(), "IN", order => order == 0);
            any = any is null ? equal : Joined(any, equal, "IN", Logic.Or);
        }
        while (TakeSign(","));
        var close = ExpectSign(")");
        return any with { End = close.End };
    }

    private static Bound Like(Bound left, Bound pattern)
    {
        var text = Casting.Expect(left, ExpressionType.Text, "LIKE");
        Bound like;
        if (pattern.Literal is { } literal)
        {
            int[] cut;
            try
            {
                cut = Likeness.Cut(literal);
            }
            catch (EvaluationException exception)
            {
                throw pattern.Wrong($"Here {exception.Message}.");
            }

            var run = text.Run;
            like = new Bound(ExpressionType.Boolean, row => run(row) is { HasValue: true } value ? Datum.Of(Likeness.Matches(value.Text, cut)) : Datum.Null, left.Place, pattern.End);
        }
        else
        {
            like = Arithmetic.Both(text, Casting.Expect(pattern, ExpressionType.Text, "LIKE"), ExpressionType.Boolean, (value, with) => Datum.Of(Likeness.Matches(value.Text, Likeness.Cut(with.Text))));
        }

        return like;
    }

    private Bound Joining()
    {
        var left = Sum();
        while (TakeSign("||"))
        {
            var right = Sum();
            left = Arithmetic.Both(AsText(left), AsText(right), ExpressionType.Text, (first, second) => Datum.Of(first.Text + second.Text));
        }

        return left;
    }

    /// <summary>Whatever is joined to a text is taken as text.</summary>
    private static Bound AsText(Bound part) => part.Type == ExpressionType.Bytes
        ? throw part.Wrong("'||' joins texts; this is bytes.")
        : Casting.Cast(Settled(part), ExpressionType.Text);

    private Bound Sum()
    {
        var left = Product();
        while (Here.IsSign("+") || Here.IsSign("-"))
        {
            left = Arithmetic.Of(Take().Text, left, Product());
        }

        return left;
    }

    private Bound Product()
    {
        var left = Signed();
        while (Here.IsSign("*") || Here.IsSign("/") || Here.IsSign("%"))
        {
            left = Arithmetic.Of(Take().Text, left, Signed());
        }

        return left;
    }

    private Bound Signed()
    {
        if (!Here.IsSign("-") && !Here.IsSign("+"))
        {
            return Single();
        }

        using var level = Deeper();
        var sign = Take();
        var part = Signed();
        return sign.Text == "-" ? Arithmetic.Negated(part, sign.Place) : part;
    }

    private Bound Single()
    {
        var start = at;
        var token = Take();
        switch (token.Kind)
        {
            case TokenKind.Number:
                return Number(token);
            case TokenKind.Text:
                var text = Datum.Of(token.Text);
                return new Bound(ExpressionType.Text, _ => text, token.Place, token.End, token.Text);
            case TokenKind.Name:
                return Column(token);
            case TokenKind.Word:
                return Word(token);
            case TokenKind.Sign when token.Text == "(":
                var inner = Or();
                var close = ExpectSign(")");
                return inner with { Place = token.Place, End = close.End };
            default:
                at = start;
                throw Unexpected("a column, a value or a parenthesis");
        }
    }

    private static Bound Number(Token token)
    {
        if (long.TryParse(token.Text, NumberStyles.None, CultureInfo.InvariantCulture, out var whole))
        {
            return new Bound(ExpressionType.Integer, _ => Datum.Of(whole), token.Place, token.End);
        }

        var exact = ExactDecimal.Parse(token.Text) ?? throw new ExpressionException("This is not a number.", token.Place, token.Length);
        return new Bound(ExpressionType.Decimal, _ => Datum.Of(exact), token.Place, token.End);
    }

    private Bound Word(Token token)
    {
        if (token.IsWord("true") || token.IsWord("false"))
        {
            var truth = Datum.Of(token.IsWord("true"));
            return new Bound(ExpressionType.Boolean, _ => truth, token.Place, token.End);
        }

        if (token.IsWord("null"))
        {
            return new Bound(ExpressionType.Unknown, _ => Datum.Null, token.Place, token.End);
        }

        if (token.IsWord("case"))
        {
            return Case(token);
        }

        if (token.IsWord("cast") && Here.IsSign("("))
        {
            return Cast(token);
        }

        if (Here.Kind == TokenKind.Text && ExpressionTypes.Named(token.Text) is { } type)
        {
            var literal = Single();
            return Casting.Cast(literal, type) with { Place = token.Place };
        }

        if (Here.IsSign("(") && !Reserved.Contains(token.Text))
        {
            return Function(token);
        }

        if (Reserved.Contains(token.Text))
        {
            at--;
            throw Unexpected("a column, a value or a parenthesis");
        }

        return Column(token);
    }

    private Bound Function(Token name)
    {
        ExpectSign("(");
        var parts = new List<Bound>();
        if (!Here.IsSign(")"))
        {
            do
            {
                parts.Add(Or());
            }
            while (TakeSign(","));
        }

        return Functions.Call(name, parts, ExpectSign(")").End);
    }

    private Bound Cast(Token start)
    {
        ExpectSign("(");
        var part = Or();
        ExpectWord("as");
        var name = Take();
        var type = name.Kind == TokenKind.Word ? ExpressionTypes.Named(name.Text) : null;
        if (type is null)
        {
            throw new ExpressionException("CAST knows boolean, integer, decimal, real, text, date, timestamp and timestamptz.", name.Place, name.Length);
        }

        var cast = Casting.Cast(part, type.Value);
        return cast with { Place = start.Place, End = ExpectSign(")").End, Literal = null };
    }

    private Bound Case(Token start)
    {
        var conditions = new List<Evaluator>();
        var values = new List<Bound>();
        while (TakeWord("when"))
        {
            conditions.Add(Casting.Expect(Or(), ExpressionType.Boolean, "WHEN").Run);
            ExpectWord("then");
            values.Add(Or());
        }

        if (conditions.Count == 0)
        {
            throw Unexpected("WHEN");
        }

        values.Add(TakeWord("else") ? Or() : new Bound(ExpressionType.Unknown, _ => Datum.Null, Here.Place, Here.Place));
        var end = ExpectWord("end");
        var met = Casting.Meet(values, "CASE");
        Evaluator[] runs = [.. met.Select(part => part.Run)];
        return new Bound(
            met[0].Type,
            row =>
            {
                for (var i = 0; i < conditions.Count; i++)
                {
                    if (conditions[i](row) is { HasValue: true, Truth: true })
                    {
                        return runs[i](row);
                    }
                }

                return runs[^1](row);
            },
            start.Place,
            end.End);
    }

    private Bound Column(Token token)
    {
        for (var i = 0; i < columns.Count; i++)
        {
            if (columns[i].Name == token.Text)
            {
                Used.UnionWith(columns[i].Reads ?? [i]);
                return new Bound(columns[i].Meaning.Type, columns[i].Value ?? ColumnReading.Of(columns[i], columns[i].Place ?? i), token.Place, token.End);
            }
        }

        var near = columns.FirstOrDefault(column => string.Equals(column.Name, token.Text, StringComparison.OrdinalIgnoreCase))?.Name;
        var hint = near is not null ? $" There is \"{near}\"." : columns.Count == 0 ? "" : $" There are {string.Join(", ", columns.Take(12).Select(column => column.Name))}{(columns.Count > 12 ? " and more" : "")}.";
        throw new ExpressionException($"There is no column {token.Text}.{hint}", token.Place, token.Length);
    }

    private Token Take() => tokens[at].Kind == TokenKind.End ? tokens[at] : tokens[at++];

    private bool TakeWord(string word)
    {
        if (!Here.IsWord(word))
        {
            return false;
        }

        at++;
        return true;
    }

    private bool TakeSign(string sign)
    {
        if (!Here.IsSign(sign))
        {
            return false;
        }

        at++;
        return true;
    }

    private Token ExpectWord(string word) => Here.IsWord(word) ? Take() : throw Unexpected(word.ToUpperInvariant());

    private Token ExpectSign(string sign) => Here.IsSign(sign) ? Take() : throw Unexpected($"'{sign}'");

    private ExpressionException Unexpected(string wanted) => new(
        Here.Kind == TokenKind.End ? $"The expression ends where {wanted} should come." : $"Here should come {wanted}.",
        Here.Place,
        Here.Length);

    private Level Deeper() => ++depth > Deepest ? throw new ExpressionException($"It is nested deeper than {Deepest}.", Here.Place, Here.Length) : new Level(this);

    private readonly struct Level(Parser parser) : IDisposable
    {
        public void Dispose() => parser.depth--;
    }
}
