using Vestige.Core.Positions;

namespace Vestige.Engine.Ports;

/// <summary>A committed transaction as read from a log, or a part of one too large to be held whole.</summary>
/// <param name="Position">The position of the transaction's commit: the same for all its parts.</param>
/// <param name="CommittedAt">By the source's clock.</param>
/// <param name="First">The first part.</param>
/// <param name="Last">The last part; a transaction in one part is both.</param>
/// <param name="Count">How many changes the part holds; may be 0.</param>
/// <param name="Changes">The changes in the form of <see cref="Core.Changes.ChangeWriter"/>.</param>
/// <param name="Route">The <see cref="Core.Routes.Route"/> that it bears, as text; null when it was made at the source.</param>
/// <param name="Token">
/// Where the log can be continued after it, as <see cref="Core.Positions.ResumeToken.Text"/>; null where the position says that.
/// </param>
/// <param name="Origin">
/// Whence the source itself got the transaction by replication, in the source's words; null when it was made there.
/// </param>
public sealed record LogFragment(
    LogPosition Position,
    DateTimeOffset CommittedAt,
    bool First,
    bool Last,
    int Count,
    ReadOnlyMemory<byte> Changes,
    string? Origin = null,
    string? Route = null,
    string? Token = null
)
{
    public bool Whole => First && Last;
}
