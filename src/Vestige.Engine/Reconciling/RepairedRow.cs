using Vestige.Core.Changes;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Reconciling;

/// <summary>A row of the target that was repaired.</summary>
/// <param name="Source">The source's table.</param>
/// <param name="Into">The target's table.</param>
/// <param name="Key">Its key columns only.</param>
/// <param name="Before">As the target had it; none when it was missing.</param>
/// <param name="After">As it was written; none when it was deleted.</param>
/// <param name="Statement">The statement, with marks where its values go; empty when nothing was to be done.</param>
/// <param name="Note">Why nothing was done; null when something was.</param>
public sealed record RepairedRow(TableName Source, TableName Into, Row Key, Row Before, Row After, string Statement, string? Note = null);
