namespace Vestige.Core.Expressions;

/// <summary>An expression that has no value for a row. The message says what failed and not for which values: they may be masked.</summary>
public sealed class EvaluationException(string message) : Exception(message);
