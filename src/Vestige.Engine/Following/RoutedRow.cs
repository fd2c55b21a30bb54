using Vestige.Core.Changes;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Following;

/// <summary>A row of the source and what the treatment makes of it.</summary>
/// <param name="Schema">The source's table.</param>
/// <param name="Change">The change before its treatment.</param>
/// <param name="First">Where among the routed changes it begins.</param>
/// <param name="End">Where it ends; equal to the first where nothing is made of it.</param>
internal readonly record struct RoutedRow(TableSchema Schema, RowChange Change, int First, int End);
