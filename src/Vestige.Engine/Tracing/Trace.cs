using Vestige.Core.Positions;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Tracing;

/// <summary>What the spool knows of a row, or of a transaction.</summary>
/// <param name="Connection">The source.</param>
/// <param name="Table">The table; null for a transaction.</param>
/// <param name="Held">Whether changes of the table are held at all; true for a transaction.</param>
/// <param name="Since">Changes after this position are held; null when the source is not read.</param>
/// <param name="UpTo">The log has been read up to here.</param>
/// <param name="Changes">The changes, in log order, at most <see cref="MostChanges"/>, the latest where there are more.</param>
/// <param name="More">Whether there are earlier ones.</param>
public sealed record Trace(
    string Connection,
    TableName? Table,
    bool Held,
    LogPosition? Since,
    LogPosition? UpTo,
    IReadOnlyList<TracedChange> Changes,
    bool More
)
{
    /// <summary>The most changes that are listed.</summary>
    public const int MostChanges = 200;
}
