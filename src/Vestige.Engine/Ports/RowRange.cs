using Vestige.Core.Loading;

namespace Vestige.Engine.Ports;

/// <summary>Rows of one table that are read in one go.</summary>
/// <param name="Keys">Where they lie.</param>
/// <param name="ChangedSince">
/// The mark of an earlier snapshot, for a range that was loaded from it: only rows that may have been written since; some that
/// were not may be among them. Null for all rows.
/// </param>
public readonly record struct RowRange(KeyRange Keys, string? ChangedSince = null);
