using Vestige.Core.Expressions;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Core.Types;

namespace Vestige.Engine.Tests.Doubles;

/// <summary>Another engine of whole numbers and texts, whose rows hold both as texts.</summary>
public sealed class PlainTexts : IEngineTypes
{
    public static PlainTexts Instance { get; } = new();

    public IRowEncoding Encoding => TextEncoding.Instance;

    public int? LongestName => 20;

    public string Spelled(string type) => type;

    public ColumnMeaning MeaningOf(Column column) => new(column.Type == "whole" ? ExpressionType.Integer : ExpressionType.Text);

    public RepeatedValue? RepeatOf(Column column) => null;

    public string TypeFor(ExpressionType type) => type == ExpressionType.Integer ? "whole" : "words";

    public LogicalType TypeOf(Column column) => LogicalType.Of(MeaningOf(column));

    public string Declare(LogicalType type) => TypeFor(ColumnMeaning.Of(type).Type);

    public TypeChange ChangeOf(string from, string to) => new(TypeOutcome.Keeps, "");
}
