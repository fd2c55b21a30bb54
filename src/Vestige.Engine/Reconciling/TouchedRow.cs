using Vestige.Core.Changes;

namespace Vestige.Engine.Reconciling;

/// <summary>A row of a source's table that changed between the position of its view and that of the target's.</summary>
/// <param name="Key">Its key columns only; none for a table without a key.</param>
/// <param name="InView">As it is in the source's view; none when it is not there.</param>
/// <param name="Expected">As it was at the position of the target's view; none when it was not there.</param>
/// <param name="Known">Whether that could be told: the log does not always say how a row was before.</param>
internal readonly record struct TouchedRow(Row Key, Row InView, Row Expected, bool Known = true);
