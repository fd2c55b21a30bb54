using Vestige.Core.Changes;

namespace Vestige.Core.Expressions;

/// <summary>
/// A condition or a computed value over one row, with SQL's meaning of NULL (ISO/IEC 9075-2, 8.2 comparison, 6.39 boolean value
/// expression). It sees the row and nothing else: no clock, no tables, no files. Immutable, safe for several threads.
/// </summary>
public sealed class Expression
{
    /// <summary>The longest text that is read, in characters.</summary>
    public const int MostCharacters = 8000;

    private Expression(string text, Bound bound, IReadOnlyList<int> columns)
    {
        Text = text;
        Type = bound.Type;
        Run = bound.Run;
        Columns = columns;
    }

    public string Text { get; }

    public ExpressionType Type { get; }

    internal Evaluator Run { get; }

    /// <summary>The places of the row that it reads, each once, in their order.</summary>
    public IReadOnlyList<int> Columns { get; }

    /// <summary>Understands a text. Throws <see cref="ExpressionException"/> with the place at fault.</summary>
    /// <param name="text">The expression.</param>
    /// <param name="columns">The columns of the rows it will see, in their order.</param>
    public static Expression Parse(string text, IReadOnlyList<ExpressionColumn> columns)
    {
        ArgumentNullException.ThrowIfNull(text);
        ArgumentNullException.ThrowIfNull(columns);
        if (text.Length > MostCharacters)
        {
            throw new ExpressionException(
                $"It has {text.Length} characters; at most {MostCharacters} are read.",
                MostCharacters,
                text.Length - MostCharacters
            );
        }

        var parser = new Parser(Lexer.Cut(text), columns);
        var bound = parser.ParseWhole();
        return new Expression(text, bound, [.. parser.Used.Order()]);
    }

    /// <summary>Understands a text as a condition: its type must be boolean.</summary>
    public static Expression ParseCondition(string text, IReadOnlyList<ExpressionColumn> columns)
    {
        var parsed = Parse(text, columns);
        return parsed.Type is ExpressionType.Boolean or ExpressionType.Unknown
            ? parsed
            : throw new ExpressionException($"A condition is true, false or NULL; this is {parsed.Type.Word()}.", 0, text.Length);
    }

    /// <summary>The value for a row. Throws <see cref="EvaluationException"/> when there is none.</summary>
    public Datum Evaluate(Row row) => Run(row);

    /// <summary>Whether the condition is true for the row; NULL is not true.</summary>
    public bool IsTrue(Row row) => Run(row) is { HasValue: true, Truth: true };
}
