using Vestige.Core.Expressions;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Core.Types;

namespace Vestige.Connectors.StandIn.Catalogue;

/// <summary>
/// Declared types of a stand-in by the engine's rule of affinity (SQLite documentation, Datatypes In SQLite, 3.1), with the
/// usual words for truth and time, which the engine itself holds as numbers and texts.
/// </summary>
internal sealed class StandInTypes : IEngineTypes
{
    public static StandInTypes Instance { get; } = new();

    public IRowEncoding Encoding => KindEncoding.Instance;

    public int? LongestName => null;

    public string Spelled(string type) => type;

    public ColumnMeaning MeaningOf(Column column) => new(Of(column.Type));

    /// <summary>A text may be JSON; whether it is, shows with each row.</summary>
    public RepeatedValue? RepeatOf(Column column) =>
        column.Type.Contains("JSON", StringComparison.OrdinalIgnoreCase) || Of(column.Type) is ExpressionType.Text or ExpressionType.Other
            ? new RepeatedValue(null)
            : null;

    public string TypeFor(ExpressionType type) =>
        type switch
        {
            ExpressionType.Boolean => "BOOLEAN",
            ExpressionType.Integer => "INTEGER",
            ExpressionType.Decimal => "NUMERIC",
            ExpressionType.Real => "REAL",
            ExpressionType.Date => "DATE",
            ExpressionType.Timestamp or ExpressionType.Instant => "TIMESTAMP",
            ExpressionType.Bytes => "BLOB",
            _ => "TEXT",
        };

    /// <summary>
    /// A column without a type holds numbers, texts and bytes side by side. Lengths and digits in parentheses bind the engine to nothing,
    /// so
    /// that they limit no value.
    /// </summary>
    public LogicalType TypeOf(Column column)
    {
        ArgumentNullException.ThrowIfNull(column);
        var type = column.Type.ToUpperInvariant();
        return type switch
        {
            "" => LogicalType.Any,
            _ when type.Contains("JSON", StringComparison.Ordinal) => LogicalType.Json,
            _ when Of(type) == ExpressionType.Other => LogicalType.Bytes,
            _ when Of(type) == ExpressionType.Timestamp
                    && (type.Contains("TZ", StringComparison.Ordinal) || type.Contains("WITH TIME ZONE", StringComparison.Ordinal)) =>
                LogicalType.Instant,
            _ => LogicalType.Of(MeaningOf(column)),
        };
    }

    /// <summary>
    /// The engine keeps a number that is not whole as binary64, so that exact ones stand as texts; and the word TEXT keeps it from making
    /// numbers of JSON.
    /// </summary>
    public string Declare(LogicalType type)
    {
        ArgumentNullException.ThrowIfNull(type);
        return type.Kind switch
        {
            LogicalKind.Json => "JSON TEXT",
            LogicalKind.Decimal => "TEXT",
            LogicalKind.Instant => "TIMESTAMP WITH TIME ZONE",
            _ => TypeFor(ColumnMeaning.Of(type).Type),
        };
    }

    /// <summary>A column's type only inclines the engine; a number written as text may become a number.</summary>
    public TypeChange ChangeOf(string from, string to) =>
        (Of(from), Of(to)) switch
        {
            var (one, other) when one == other => new TypeChange(TypeOutcome.Keeps, "the same kind of values"),
            (ExpressionType.Integer, ExpressionType.Decimal or ExpressionType.Text or ExpressionType.Other) => new TypeChange(
                TypeOutcome.Keeps,
                "every whole number fits"
            ),
            (
                ExpressionType.Date
                    or ExpressionType.Timestamp
                    or ExpressionType.Instant
                    or ExpressionType.Boolean,
                ExpressionType.Text
                    or ExpressionType.Other
            ) => new TypeChange(TypeOutcome.Keeps, "values stay as they are written"),
            (_, ExpressionType.Other) => new TypeChange(TypeOutcome.Keeps, "a column without a type takes everything as it is"),
            (ExpressionType.Text, ExpressionType.Date or ExpressionType.Timestamp or ExpressionType.Instant) => new TypeChange(
                TypeOutcome.MayChange,
                "a text that looks like a number becomes one"
            ),
            _ => new TypeChange(TypeOutcome.MayChange, "the stand-in turns values into the kind that the column inclines to"),
        };

    private static ExpressionType Of(string declared)
    {
        var type = declared.ToUpperInvariant();
        return type switch
        {
            "" => ExpressionType.Other,
            _ when type.Contains("INT", StringComparison.Ordinal) => ExpressionType.Integer,
            _ when type.Contains("CHAR", StringComparison.Ordinal)
                    || type.Contains("CLOB", StringComparison.Ordinal)
                    || type.Contains("TEXT", StringComparison.Ordinal) => ExpressionType.Text,
            _ when type.Contains("BLOB", StringComparison.Ordinal) => ExpressionType.Other,
            _ when type.Contains("REAL", StringComparison.Ordinal)
                    || type.Contains("FLOA", StringComparison.Ordinal)
                    || type.Contains("DOUB", StringComparison.Ordinal) => ExpressionType.Real,
            _ when type.StartsWith("BOOL", StringComparison.Ordinal) => ExpressionType.Boolean,
            "DATE" => ExpressionType.Date,
            _ when type.StartsWith("TIMESTAMP", StringComparison.Ordinal) || type == "DATETIME" => ExpressionType.Timestamp,
            _ => ExpressionType.Decimal,
        };
    }
}
