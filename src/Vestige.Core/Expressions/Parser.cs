namespace Vestige.Core.Expressions;

/// <summary>
/// Understands tokens by descent: from OR, which binds loosest, over AND, NOT, IS, comparison, BETWEEN and its like, || and
/// the signs of reckoning to single values. Types are settled on the way, so that what is wrong is told at its place.
/// </summary>
internal sealed class Parser
{
    private readonly TokenReader tokens;
    private readonly TermParser terms;

    public Parser(IReadOnlyList<Token> tokens, IReadOnlyList<ExpressionColumn> columns)
    {
        this.tokens = new TokenReader(tokens);
        terms = new TermParser(this.tokens, columns, Or);
    }

    /// <summary>The places of the row that the columns met depend on.</summary>
    public IReadOnlySet<int> Used => terms.Used;

    public Bound ParseWhole()
    {
        if (tokens.Here.Kind == TokenKind.End)
        {
            throw new ExpressionException("There is nothing here.", 0, 0);
        }

        var whole = Or();
        return tokens.Here.Kind == TokenKind.End ? Settled(whole) : throw tokens.Unexpected("the end, or an operator");
    }

    /// <summary>A literal of which nobody wanted another type is text.</summary>
    private static Bound Settled(Bound part) => part.Literal is null ? part : part with { Literal = null };

    private Bound Or()
    {
        using var level = tokens.Deeper();
        var left = And();
        while (tokens.TakeWord("or"))
        {
            left = Joined(left, And(), "OR", Logic.Or);
        }

        return left;
    }

    private Bound And()
    {
        var left = Not();
        while (tokens.TakeWord("and"))
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
        var place = tokens.Here.Place;
        if (!tokens.TakeWord("not"))
        {
            return Is();
        }

        using var level = tokens.Deeper();
        var part = Casting.Expect(Not(), ExpressionType.Boolean, "NOT");
        return new Bound(ExpressionType.Boolean, Logic.Not(part.Run), place, part.End);
    }

    private Bound Is()
    {
        var left = Comparison();
        while (tokens.TakeWord("is"))
        {
            left = IsWhat(left, !tokens.TakeWord("not"));
        }

        return left;
    }

    private Bound IsWhat(Bound left, bool wanted)
    {
        var word = tokens.Take();
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

        if (!word.IsWord("distinct") || !tokens.TakeWord("from"))
        {
            throw new ExpressionException("After IS comes NULL, TRUE, FALSE, UNKNOWN or DISTINCT FROM.", word.Place, word.Length);
        }

        var (first, second) = Casting.Meet(left, Comparison(), "IS DISTINCT FROM");
        return new Bound(
            ExpressionType.Boolean,
            Logic.Distinct(first.Run, second.Run, Comparing.Of(first.Type), wanted),
            left.Place,
            second.End
        );
    }

    private Bound Comparison()
    {
        var left = Among();
        if (tokens.Here.Kind == TokenKind.Sign && Holds(tokens.Here.Text) is { } holds)
        {
            var sign = tokens.Take();
            left = Compared(left, Among(), sign.Text, holds);
            if (tokens.Here.Kind == TokenKind.Sign && Holds(tokens.Here.Text) is not null)
            {
                throw new ExpressionException("Comparisons are not chained; join them with AND.", tokens.Here.Place, tokens.Here.Length);
            }
        }

        return left;
    }

    private static Func<int, bool>? Holds(string sign) =>
        sign switch
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
            : new Bound(
                ExpressionType.Boolean,
                Logic.Compare(first.Run, second.Run, Comparing.Of(first.Type), holds),
                left.Place,
                right.End
            );
    }

    private Bound Among()
    {
        var left = Joining();
        while (true)
        {
            var negated =
                tokens.Here.IsWord("not")
                && tokens.Following is { } next
                && (next.IsWord("in") || next.IsWord("between") || next.IsWord("like"));
            if (negated)
            {
                tokens.Take();
            }

            if (tokens.TakeWord("in"))
            {
                left = In(left);
            }
            else if (tokens.TakeWord("between"))
            {
                var low = Joining();
                tokens.ExpectWord("and");
                left = Joined(
                    Compared(left, low, "BETWEEN", order => order >= 0),
                    Compared(left, Joining(), "BETWEEN", order => order <= 0),
                    "BETWEEN",
                    Logic.And
                );
            }
            else if (tokens.TakeWord("like"))
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
        tokens.ExpectSign("(");
        Bound? any = null;
        do
        {
            var equal = Compared(left, Or(), "IN", order => order == 0);
            any = any is null ? equal : Joined(any, equal, "IN", Logic.Or);
        } while (tokens.TakeSign(","));
        var close = tokens.ExpectSign(")");
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
                cut = LikePattern.Cut(literal);
            }
            catch (EvaluationException exception)
            {
                throw pattern.Wrong($"tokens.Here {exception.Message}.");
            }

            var run = text.Run;
            like = new Bound(
                ExpressionType.Boolean,
                row => run(row) is { HasValue: true } value ? Datum.Of(LikePattern.Matches(value.Text, cut)) : Datum.Null,
                left.Place,
                pattern.End
            );
        }
        else
        {
            like = Arithmetic.Both(text, Casting.Expect(pattern, ExpressionType.Text, "LIKE"), ExpressionType.Boolean, (value, with) =>
                Datum.Of(LikePattern.Matches(value.Text, LikePattern.Cut(with.Text)))
            );
        }

        return like;
    }

    private Bound Joining()
    {
        var left = Sum();
        while (tokens.TakeSign("||"))
        {
            var right = Sum();
            left = Arithmetic.Both(AsText(left), AsText(right), ExpressionType.Text, (first, second) => Datum.Of(first.Text + second.Text));
        }

        return left;
    }

    /// <summary>Whatever is joined to a text is taken as text.</summary>
    private static Bound AsText(Bound part) =>
        part.Type == ExpressionType.Bytes
            ? throw part.Wrong("'||' joins texts; this is bytes.")
            : Casting.Cast(Settled(part), ExpressionType.Text);

    private Bound Sum()
    {
        var left = Product();
        while (tokens.Here.IsSign("+") || tokens.Here.IsSign("-"))
        {
            left = Arithmetic.Of(tokens.Take().Text, left, Product());
        }

        return left;
    }

    private Bound Product()
    {
        var left = Signed();
        while (tokens.Here.IsSign("*") || tokens.Here.IsSign("/") || tokens.Here.IsSign("%"))
        {
            left = Arithmetic.Of(tokens.Take().Text, left, Signed());
        }

        return left;
    }

    private Bound Signed()
    {
        if (!tokens.Here.IsSign("-") && !tokens.Here.IsSign("+"))
        {
            return terms.Single();
        }

        using var level = tokens.Deeper();
        var sign = tokens.Take();
        var part = Signed();
        return sign.Text == "-" ? Arithmetic.Negated(part, sign.Place) : part;
    }
}
