using Vestige.Engine.Ports;

namespace Vestige.Engine.Tests.Toys.OrderedList;

/// <summary>One entry of the list.</summary>
/// <param name="Kind">What it is.</param>
/// <param name="Id">The same for the same change, whenever it is written again; of what a load brings, that of the load.</param>
/// <param name="Change">Table and rows.</param>
/// <param name="Transaction">The transaction that it belongs to; null for what a load brings.</param>
public sealed record ListEntry(ListEntryKind Kind, string Id, OrderedChange Change, OrderedTransaction? Transaction);
