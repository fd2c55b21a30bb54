namespace Vestige.Core.Crossings;

/// <summary>What a crossing carries.</summary>
public enum StartKind
{
    /// <summary>The rows that are there, and from then on every change.</summary>
    RowsThenChanges,

    /// <summary>The rows that are there, once; then it is finished.</summary>
    Rows,

    /// <summary>The tables with their keys, indexes and references, without rows; then it is finished.</summary>
    Structure,

    /// <summary>Changes only, from now or from a place in the past, into tables that were loaded by other means.</summary>
    Changes,
}
