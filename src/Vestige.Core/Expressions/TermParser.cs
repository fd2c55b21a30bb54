using System.Globalization;

namespace Vestige.Core.Expressions;

/// <summary>Understands single values: literals, columns, functions, CASE, CAST and what stands in parentheses.</summary>
/// <param name="tokens">The tokens.</param>
/// <param name="columns">What a name may mean.</param>
/// <param name="whole">Understands a whole expression inside, up to where it ends.</param>
internal sealed class TermParser(TokenReader tokens, IReadOnlyList<ExpressionColumn> columns, Func<Bound> whole)
{
    private const string Wanted = "a column, a value or a parenthesis";

    private static readonly HashSet<string> Reserved = new(StringComparer.OrdinalIgnoreCase)
    {
        "and",
        "or",
        "not",
        "is",
        "null",
        "true",
        "false",
        "in",
        "between",
        "like",
        "case",
        "when",
        "then",
        "else",
        "end",
        "cast",
        "as",
        "distinct",
        "from",
        "unknown",
    };

    /// <summary>The places of the row that the columns met depend on.</summary>
    public HashSet<int> Used { get; } = [];

    /// <summary>The next value, with whatever stands inside it.</summary>
    public Bound Single()
    {
        var token = tokens.Take();
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
                var inner = whole();
                var close = tokens.ExpectSign(")");
                return inner with { Place = token.Place, End = close.End };
            default:
                if (token.Kind != TokenKind.End)
                {
                    tokens.Back();
                }

                throw tokens.Unexpected(Wanted);
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

        if (token.IsWord("cast") && tokens.Here.IsSign("("))
        {
            return Cast(token);
        }

        if (tokens.Here.Kind == TokenKind.Text && ExpressionTypes.Named(token.Text) is { } type)
        {
            var literal = Single();
            return Casting.Cast(literal, type) with { Place = token.Place };
        }

        if (tokens.Here.IsSign("(") && !Reserved.Contains(token.Text))
        {
            return Function(token);
        }

        if (Reserved.Contains(token.Text))
        {
            tokens.Back();
            throw tokens.Unexpected(Wanted);
        }

        return Column(token);
    }

    private Bound Function(Token name)
    {
        tokens.ExpectSign("(");
        var parts = new List<Bound>();
        if (!tokens.Here.IsSign(")"))
        {
            do
            {
                parts.Add(whole());
            } while (tokens.TakeSign(","));
        }

        return Functions.Call(name, parts, tokens.ExpectSign(")").End);
    }

    private Bound Cast(Token start)
    {
        tokens.ExpectSign("(");
        var part = whole();
        tokens.ExpectWord("as");
        var name = tokens.Take();
        var type = name.Kind == TokenKind.Word ? ExpressionTypes.Named(name.Text) : null;
        if (type is null)
        {
            throw new ExpressionException(
                "CAST knows boolean, integer, decimal, real, text, date, timestamp and timestamptz.",
                name.Place,
                name.Length
            );
        }

        var cast = Casting.Cast(part, type.Value);
        return cast with { Place = start.Place, End = tokens.ExpectSign(")").End, Literal = null };
    }

    private Bound Case(Token start)
    {
        var conditions = new List<Evaluator>();
        var values = new List<Bound>();
        while (tokens.TakeWord("when"))
        {
            conditions.Add(Casting.Expect(whole(), ExpressionType.Boolean, "WHEN").Run);
            tokens.ExpectWord("then");
            values.Add(whole());
        }

        if (conditions.Count == 0)
        {
            throw tokens.Unexpected("WHEN");
        }

        values.Add(
            tokens.TakeWord("else") ? whole() : new Bound(ExpressionType.Unknown, _ => Datum.Null, tokens.Here.Place, tokens.Here.Place)
        );
        var end = tokens.ExpectWord("end");
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
            end.End
        );
    }

    private Bound Column(Token token)
    {
        for (var i = 0; i < columns.Count; i++)
        {
            if (columns[i].Name == token.Text)
            {
                Used.UnionWith(columns[i].Reads ?? [i]);
                return new Bound(
                    columns[i].Meaning.Type,
                    columns[i].Value ?? ColumnReading.Of(columns[i], columns[i].Ordinal ?? i),
                    token.Place,
                    token.End
                );
            }
        }

        var near = columns.FirstOrDefault(column => string.Equals(column.Name, token.Text, StringComparison.OrdinalIgnoreCase))?.Name;
        var hint =
            near is not null ? $" There is \"{near}\"."
            : columns.Count == 0 ? ""
            : $" There are {string.Join(", ", columns.Take(12).Select(column => column.Name))}{(columns.Count > 12 ? " and more" : "")}.";
        throw new ExpressionException($"There is no column {token.Text}.{hint}", token.Place, token.Length);
    }
}
