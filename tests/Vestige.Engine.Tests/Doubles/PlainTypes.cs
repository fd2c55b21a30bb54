using Vestige.Core.Expressions;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;

namespace Vestige.Engine.Tests.Doubles;

/// <summary>An engine of whole numbers and texts.</summary>
public sealed class PlainTypes : IEngineTypes
{
    public static PlainTypes Instance { get; } = new();

    public bool ValuesAreText => false;

    public int? LongestName => 20;

    public string Spelled(string type) => type;

    public ColumnMeaning MeaningOf(Column column) => new(column.Type == "INTEGER" ? ExpressionType.Integer : ExpressionType.Text);

    public RepeatedValue? RepeatOf(Column column) => new RepeatedValue(null);

    public string TypeFor(ExpressionType type) => type == ExpressionType.Integer ? "INTEGER" : "TEXT";

    public ColumnMeaning? MeaningElsewhere(Column column) => MeaningOf(column);

    public string TypeHolding(ColumnMeaning meaning) => TypeFor(meaning.Type);

    public TypeChange ChangeOf(string from, string to) => new(TypeOutcome.Keeps, "");
}
