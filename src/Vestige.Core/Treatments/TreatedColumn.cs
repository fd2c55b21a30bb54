using Vestige.Core.Changes;
using Vestige.Core.Expressions;
using Vestige.Core.Types;

namespace Vestige.Core.Treatments;

/// <summary>A column on its way: where its value comes from, and what it is on the target.</summary>
/// <param name="Name">Its name so far.</param>
/// <param name="Type">Its declared type on the target.</param>
/// <param name="Meaning">What its values are to expressions.</param>
/// <param name="Source">The source's column whose value it has as it is; -1 when the value is made.</param>
/// <param name="Reads">The source's columns that the made value depends on.</param>
/// <param name="KeyOrdinal">1-based place in the key; 0 when it is not part of it.</param>
/// <param name="Nullable">Whether it takes NULL.</param>
/// <param name="Masked">Whether the source's value must not be shown.</param>
/// <param name="Distinct">Whether different values of the source's column stay different.</param>
/// <param name="Mark">For a column that says how the row was changed: which.</param>
public sealed record TreatedColumn(
    string Name,
    string Type,
    ColumnMeaning Meaning,
    int Source,
    IReadOnlyList<int> Reads,
    int KeyOrdinal = 0,
    bool Nullable = true,
    bool Masked = false,
    bool Distinct = true,
    SystemColumn Mark = SystemColumn.None
)
{
    /// <summary>How the value is made; null where it is passed as it is.</summary>
    internal Evaluator? Make { get; init; }

    /// <summary>
    /// Writes the value without making it first, for what every row of a load goes through; null where <see cref="Make"/> alone does.
    /// </summary>
    internal Action<Row, RowWriter>? Put { get; init; }

    /// <summary>
    /// What the value is, where it is the source's own and only written as the target's engine holds it; null where it is not.
    /// </summary>
    public LogicalType? Transcribed { get; init; }

    /// <summary>Whether the value is the source's own, only written as the target's engine holds it.</summary>
    public bool IsTranscribed => Transcribed is not null;

    /// <summary>Whether the target's engine has no column that would hold the source's values.</summary>
    public bool HasNoTypeThere { get; init; }

    /// <summary>The type that its values had before they were put into a column of another; null where they have it still.</summary>
    public string? ConvertedFrom { get; init; }

    /// <summary>Whether it says which table a row of a combined one came from.</summary>
    public bool IsOrigin { get; init; }

    /// <summary>1-based place in the key of a row's messages; 0 when it is not part of it.</summary>
    public int MessageKeyOrdinal { get; init; }

    /// <summary>Whether the source's value is passed as it is.</summary>
    public bool IsPassed => Source >= 0;

    /// <summary>Whether the source's value is there as it is, however the engines of both sides write it.</summary>
    public bool IsKept => IsPassed || IsTranscribed;

    /// <summary>The source's column that it stands for, however it is treated; -1 for a new one.</summary>
    public int Of { get; init; } = -1;
}
