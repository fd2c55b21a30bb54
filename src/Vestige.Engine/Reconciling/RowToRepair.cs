using Vestige.Core.Changes;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Reconciling;

/// <summary>A row to be repaired.</summary>
/// <param name="Source">The source's table.</param>
/// <param name="Into">The target's table.</param>
/// <param name="Key">Its key columns only.</param>
/// <param name="Kept">For an undo: the row as it is put back; none to delete it.</param>
/// <param name="Left">For an undo: the row as the repair left it; none when it had deleted it.</param>
internal sealed record RowToRepair(TableName Source, TableName Into, Row Key, Row Kept = default, Row Left = default);
