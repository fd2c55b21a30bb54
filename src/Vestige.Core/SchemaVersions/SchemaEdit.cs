using Vestige.Core.Schemas;

namespace Vestige.Core.SchemaVersions;

/// <summary>What is to be done to a table so that it is what another version of it says.</summary>
/// <param name="Before">The table as it is.</param>
/// <param name="After">The table as it is to be; columns have the numbers of <paramref name="Before"/>.</param>
/// <param name="Changes">
/// The steps, in order: see <see cref="SchemaComparison.Steps"/>. A column that is added has <see cref="Column.Missing"/> in the rows that
/// are there.
/// </param>
public sealed record SchemaEdit(TableSchema Before, TableSchema After, IReadOnlyList<SchemaChange> Changes);
