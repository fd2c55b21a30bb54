namespace Vestige.Core.Expressions;

/// <summary>
/// Goes over the tokens of one expression, and says what should have come where something else stands. Used by one thread.
/// </summary>
internal sealed class TokenReader(IReadOnlyList<Token> tokens)
{
    /// <summary>How deep parentheses, NOT and signs may stand in each other; beyond it the thread's stack would decide.</summary>
    private const int Deepest = 60;

    private int at;
    private int depth;

    /// <summary>The token that comes next; at the end of the text, the one that says so.</summary>
    public Token Here => tokens[at];

    /// <summary>The token after <see cref="Here"/>, where there is one.</summary>
    public Token? Following => at + 1 < tokens.Count ? tokens[at + 1] : null;

    /// <summary>Makes the token that was taken last the next one again.</summary>
    public void Back() => at--;

    public Token Take() => tokens[at].Kind == TokenKind.End ? tokens[at] : tokens[at++];

    public bool TakeWord(string word)
    {
        if (!Here.IsWord(word))
        {
            return false;
        }

        at++;
        return true;
    }

    public bool TakeSign(string sign)
    {
        if (!Here.IsSign(sign))
        {
            return false;
        }

        at++;
        return true;
    }

    public Token ExpectWord(string word) => Here.IsWord(word) ? Take() : throw Unexpected(word.ToUpperInvariant());

    public Token ExpectSign(string sign) => Here.IsSign(sign) ? Take() : throw Unexpected($"'{sign}'");

    public ExpressionException Unexpected(string wanted) =>
        new(
            Here.Kind == TokenKind.End ? $"The expression ends where {wanted} should come." : $"Here should come {wanted}.",
            Here.Place,
            Here.Length
        );

    /// <summary>One level deeper, until what is returned is disposed of.</summary>
    public Level Deeper() =>
        ++depth > Deepest
            ? throw new ExpressionException($"It is nested deeper than {Deepest}.", Here.Place, Here.Length)
            : new Level(this);

    public readonly struct Level(TokenReader tokens) : IDisposable
    {
        public void Dispose() => tokens.depth--;
    }
}
