namespace Vestige.Core.Expressions;

/// <summary>One word, number, text or sign of an expression.</summary>
internal readonly record struct Token(TokenKind Kind, string Text, int Place, int Length)
{
    public int End => Place + Length;

    public bool IsWord(string word) => Kind == TokenKind.Word && Text.Equals(word, StringComparison.OrdinalIgnoreCase);

    public bool IsSign(string sign) => Kind == TokenKind.Sign && Text == sign;
}
