namespace Vestige.Core.Expressions;

internal enum TokenKind
{
    /// <summary>A bare word: a key word, a function or a column.</summary>
    Word,

    /// <summary>A name in double quotes: always a column.</summary>
    Name,

    Number,

    /// <summary>In single quotes.</summary>
    Text,

    Sign,

    End,
}
