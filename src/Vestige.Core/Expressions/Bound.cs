namespace Vestige.Core.Expressions;

/// <summary>A part of an expression that is understood.</summary>
/// <param name="Type">Of its value.</param>
/// <param name="Run">How it is reckoned.</param>
/// <param name="Place">Where it begins in the text.</param>
/// <param name="End">Behind its last character.</param>
/// <param name="Literal">The text of a literal in single quotes, which takes the type that is wanted of it; null for all else.</param>
internal sealed record Bound(ExpressionType Type, Evaluator Run, int Place, int End, string? Literal = null)
{
    /// <summary>Another part instead of this one.</summary>
    public Bound With(ExpressionType type, Evaluator run) => new(type, run, Place, End);

    public ExpressionException Wrong(string message) => new(message, Place, End - Place);
}
