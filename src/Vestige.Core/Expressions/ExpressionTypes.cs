namespace Vestige.Core.Expressions;

/// <summary>The types by the names under which expressions and messages have them.</summary>
public static class ExpressionTypes
{
    public static string Word(this ExpressionType type) =>
        type switch
        {
            ExpressionType.Unknown => "NULL",
            ExpressionType.Instant => "timestamptz",
            ExpressionType.Other => "a type that expressions do not know",
            _ => type.ToString().ToLowerInvariant(),
        };

    /// <summary>The type that a CAST names; null when there is none of that name.</summary>
    public static ExpressionType? Named(string name) =>
        name.ToLowerInvariant() switch
        {
            "boolean" => ExpressionType.Boolean,
            "integer" or "bigint" or "int" => ExpressionType.Integer,
            "decimal" or "numeric" => ExpressionType.Decimal,
            "real" or "double" => ExpressionType.Real,
            "text" => ExpressionType.Text,
            "date" => ExpressionType.Date,
            "timestamp" => ExpressionType.Timestamp,
            "timestamptz" => ExpressionType.Instant,
            _ => null,
        };

    internal static bool IsNumber(this ExpressionType type) =>
        type is ExpressionType.Integer or ExpressionType.Decimal or ExpressionType.Real;
}
