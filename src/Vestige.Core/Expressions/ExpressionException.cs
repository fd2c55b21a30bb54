namespace Vestige.Core.Expressions;

/// <summary>An expression that cannot be understood, and where. Nothing of any row's values is in it.</summary>
public sealed class ExpressionException : Exception
{
    public ExpressionException(string message, int place, int length)
        : base(message)
    {
        Place = place;
        Length = length;
    }

    /// <summary>The first character at fault, from 0.</summary>
    public int Place { get; }

    /// <summary>How many characters are at fault; 0 at the end of the text.</summary>
    public int Length { get; }
}
