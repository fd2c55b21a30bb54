using Vestige.Core.Crossings;
using Vestige.Core.Positions;

namespace Vestige.Engine.Spooling;

/// <summary>A transaction, or a part of a large one, as read back from the spool.</summary>
/// <param name="Position">Of the transaction's commit.</param>
/// <param name="CommittedAt">By the source's clock.</param>
/// <param name="CapturedAt">When it was read from the log.</param>
/// <param name="First">The first part.</param>
/// <param name="Last">The last part.</param>
/// <param name="Count">Changes in this part.</param>
/// <param name="Changes">In the form of <see cref="Core.Changes.ChangeWriter"/>.</param>
/// <param name="Transactions">How many transactions the spool had taken up to and with this one.</param>
/// <param name="TotalChanges">The same for changes.</param>
/// <param name="Route">The <see cref="Core.Routes.Route"/> that it bears, as text; null when it was made at the source.</param>
/// <param name="Token">Where the log can be continued after it, in the source's words; null where the position says that.</param>
/// <param name="Origin">Whence the source itself got the transaction by replication; null when it was made there.</param>
public sealed record SpooledFragment(
    LogPosition Position,
    DateTimeOffset CommittedAt,
    DateTimeOffset CapturedAt,
    bool First,
    bool Last,
    int Count,
    ReadOnlyMemory<byte> Changes,
    long Transactions,
    long TotalChanges,
    string? Origin = null,
    string? Route = null,
    string? Token = null
)
{
    public bool Whole => First && Last;

    /// <summary>
    /// Whether it lies after a mark. One without changes only says how far the log was read, at a time of our own: what was committed
    /// before that time may yet follow it.
    /// </summary>
    public bool IsAfter(StopMark mark)
    {
        ArgumentNullException.ThrowIfNull(mark);
        return mark.IsBefore(Position, Whole && Count == 0 ? DateTimeOffset.MinValue : CommittedAt);
    }
}
