using System.Text.Json.Serialization;
using Vestige.Core.SchemaVersions;

namespace Vestige.Core.Crossings;

/// <summary>What becomes of the tables that a pattern matches when their schema changes at the source.</summary>
/// <param name="Tables">The pattern; <c>*</c> stands for any characters of <c>schema.table</c>.</param>
/// <param name="As">What is done.</param>
/// <param name="Kinds">The kinds of changes that it is for; null for all.</param>
public sealed record SchemaChangeRule(
    string Tables,
    SchemaChangeAction As,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] IReadOnlyList<SchemaChangeKind>? Kinds = null
)
{
    /// <summary>The kinds that a rule can be for.</summary>
    public static IReadOnlyList<SchemaChangeKind> AllKinds { get; } =
    [
        SchemaChangeKind.ColumnAdded,
        SchemaChangeKind.ColumnDropped,
        SchemaChangeKind.ColumnRenamed,
        SchemaChangeKind.TypeChanged,
        SchemaChangeKind.NullabilityChanged,
        SchemaChangeKind.DefaultChanged,
        SchemaChangeKind.LabelAdded,
        SchemaChangeKind.ConstraintDropped,
        SchemaChangeKind.ConstraintRenamed,
        SchemaChangeKind.PartDetached,
        SchemaChangeKind.ConstraintAdded,
    ];
}
