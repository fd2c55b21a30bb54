using Vestige.Core.Schemas;

namespace Vestige.Engine.Ports;

/// <summary>A table of a connected database.</summary>
/// <param name="Schema">Its form.</param>
/// <param name="EstimatedRows">An estimate; exact where the engine gives it cheaply.</param>
/// <param name="Bytes">Its size; null where unknown.</param>
/// <param name="Reason">Why it cannot cross; null when it can.</param>
/// <param name="PartOf">The partitioned table that it is a part of, the topmost; null when it stands for itself.</param>
public sealed record TableDescription(TableSchema Schema, long EstimatedRows, long? Bytes, string? Reason, TableName? PartOf = null)
{
    public bool Crosses => Reason is null;
}
