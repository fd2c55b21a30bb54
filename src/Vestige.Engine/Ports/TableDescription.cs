using Vestige.Core.Crossings;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Ports;

/// <summary>A table of a connected database.</summary>
/// <param name="Schema">Its form.</param>
/// <param name="EstimatedRows">An estimate; exact where the engine gives it cheaply.</param>
/// <param name="Bytes">Its size; null where unknown.</param>
/// <param name="Reason">Why it cannot cross; null when it can.</param>
/// <param name="PartOf">The partitioned table that it is a part of, the topmost; null when it stands for itself.</param>
/// <param name="InsertsCross">Whether it can cross at least when only its inserts are wanted.</param>
/// <param name="WholeRowsBy">
/// The statement after which the log tells of each change the whole row as it was before; null when it does.
/// </param>
public sealed record TableDescription(
    TableSchema Schema,
    long EstimatedRows,
    long? Bytes,
    string? Reason,
    TableName? PartOf = null,
    bool InsertsCross = false,
    string? WholeRowsBy = null
)
{
    /// <summary>Whether it is none of the database's own tables, as a view: what it shows is in others.</summary>
    public bool HasNoRows { get; init; }

    /// <summary>Whether the database has no estimate of its rows; <see cref="EstimatedRows"/> is then a guess for planning only.</summary>
    public bool IsRowsUnknown { get; init; }

    /// <summary>Its rows as an estimate; null where the database has none.</summary>
    public long? KnownRows => IsRowsUnknown ? null : EstimatedRows;

    public bool Crosses => Reason is null;

    /// <summary>Whether it can cross when its changes are applied like that.</summary>
    public bool CrossesAs(ApplyMode mode) => Crosses || (InsertsCross && mode == ApplyMode.InsertOnly);
}
