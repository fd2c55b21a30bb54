using System.Text;

namespace Vestige.Core.Expressions;

/// <summary>Cuts an expression into tokens.</summary>
internal static class Lexer
{
    private static readonly string[] Signs = ["<>", "!=", "<=", ">=", "||", "(", ")", ",", "+", "-", "*", "/", "%", "=", "<", ">"];

    public static IReadOnlyList<Token> Cut(string text)
    {
        var tokens = new List<Token>();
        var at = 0;
        while (true)
        {
            while (at < text.Length && char.IsWhiteSpace(text[at]))
            {
                at++;
            }

            if (at == text.Length)
            {
                tokens.Add(new Token(TokenKind.End, "", at, 0));
                return tokens;
            }

            var token = Next(text, at);
            tokens.Add(token);
            at = token.End;
        }
    }

    private static Token Next(string text, int at)
    {
        var c = text[at];
        if (c is '\'' or '"')
        {
            return Quoted(text, at, c);
        }

        if (char.IsAsciiDigit(c) || (c == '.' && at + 1 < text.Length && char.IsAsciiDigit(text[at + 1])))
        {
            return Number(text, at);
        }

        if (char.IsLetter(c) || c == '_')
        {
            var end = at;
            while (end < text.Length && (char.IsLetterOrDigit(text[end]) || text[end] is '_' or '$'))
            {
                end++;
            }

            return new Token(TokenKind.Word, text[at..end], at, end - at);
        }

        var sign = Array.Find(Signs, candidate => string.CompareOrdinal(text, at, candidate, 0, candidate.Length) == 0);
        return sign is not null
            ? new Token(TokenKind.Sign, sign, at, sign.Length)
            : throw new ExpressionException($"'{c}' has no meaning here.", at, 1);
    }

    private static Token Quoted(string text, int start, char quote)
    {
        var value = new StringBuilder();
        for (var at = start + 1; at < text.Length; at++)
        {
            if (text[at] != quote)
            {
                value.Append(text[at]);
            }
            else if (at + 1 < text.Length && text[at + 1] == quote)
            {
                value.Append(quote);
                at++;
            }
            else
            {
                return new Token(quote == '"' ? TokenKind.Name : TokenKind.Text, value.ToString(), start, at + 1 - start);
            }
        }

        throw new ExpressionException(
            $"The {(quote == '"' ? "name" : "text")} that begins here has no closing quote.",
            start,
            text.Length - start
        );
    }

    private static Token Number(string text, int start)
    {
        var end = start;
        while (end < text.Length && (char.IsAsciiDigit(text[end]) || text[end] == '.'))
        {
            end++;
        }

        if (end < text.Length && text[end] is 'e' or 'E')
        {
            var digits = end + 1 < text.Length && text[end + 1] is '+' or '-' ? end + 2 : end + 1;
            if (digits < text.Length && char.IsAsciiDigit(text[digits]))
            {
                end = digits;
                while (end < text.Length && char.IsAsciiDigit(text[end]))
                {
                    end++;
                }
            }
        }

        var number = text[start..end];
        return number.Count(c => c == '.') > 1 || (end < text.Length && (char.IsLetter(text[end]) || text[end] == '_'))
            ? throw new ExpressionException("This is not a number.", start, end - start)
            : new Token(TokenKind.Number, number, start, end - start);
    }
}
