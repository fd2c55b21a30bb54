namespace Vestige.Engine.Tests.Toys.OrderedList;

/// <summary>What an entry of the list is.</summary>
public enum ListEntryKind
{
    /// <summary>A load of the table begins: what came of it before counts no more.</summary>
    LoadBegan,

    /// <summary>A row that a load brings.</summary>
    Loaded,

    /// <summary>The load of the table is done.</summary>
    LoadEnded,

    /// <summary>A change.</summary>
    Changed,
}
