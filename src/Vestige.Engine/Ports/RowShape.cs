using Vestige.Core.Changes;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Ports;

/// <summary>Which columns of a table are compared, and by which of them rows are found.</summary>
/// <param name="Table">The table.</param>
/// <param name="Columns">Indexes of its columns, in the order in which they are hashed.</param>
/// <param name="Key">Indexes of those that tell rows apart; all that are compared where there is no key.</param>
public sealed record RowShape(TableSchema Table, IReadOnlyList<int> Columns, IReadOnlyList<int> Key)
{
    /// <summary>The key columns of a whole row.</summary>
    public Row KeyOf(Row row) => row.Only(Key);
}
