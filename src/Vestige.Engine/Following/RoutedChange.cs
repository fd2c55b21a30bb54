using Vestige.Core.Changes;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Following;

/// <summary>A change as it is to be applied.</summary>
/// <param name="Source">The source's table that it comes from.</param>
/// <param name="Schema">The form of the target's table.</param>
/// <param name="Change">The change, its rows in that form.</param>
internal readonly record struct RoutedChange(TableName Source, TableSchema Schema, RowChange Change);
