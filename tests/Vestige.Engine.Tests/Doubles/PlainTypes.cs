using Vestige.Core.Expressions;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Core.Types;

namespace Vestige.Engine.Tests.Doubles;

/// <summary>An engine of whole numbers and texts.</summary>
public sealed class PlainTypes : IEngineTypes
{
    public static PlainTypes Instance { get; } = new();

    public IRowEncoding Encoding => KindEncoding.Instance;

    public int? LongestName => 20;

    public string Spelled(string type) => type;

    public ColumnMeaning MeaningOf(Column column) => new(column.Type == "INTEGER" ? ExpressionType.Integer : ExpressionType.Text);

    public RepeatedValue? RepeatOf(Column column) => new RepeatedValue(null);

    public string TypeFor(ExpressionType type) => type == ExpressionType.Integer ? "INTEGER" : "TEXT";

    public LogicalType TypeOf(Column column) => LogicalType.Of(MeaningOf(column));

    public string Declare(LogicalType type) => TypeFor(ColumnMeaning.Of(type).Type);

    public TypeChange ChangeOf(string from, string to) => new(TypeOutcome.Keeps, "");
}
