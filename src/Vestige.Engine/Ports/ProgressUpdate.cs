using Vestige.Core.Positions;

namespace Vestige.Engine.Ports;

/// <summary>What a target transaction changes about the progress; null and empty mean unchanged.</summary>
/// <param name="Position">The new position.</param>
/// <param name="Tables">The tables whose progress changed.</param>
/// <param name="Identity">The source's log the positions belong to.</param>
/// <param name="Token">
/// Where the log can be continued after the new position, in the source's words; null where the position says that.
/// </param>
/// <param name="Restart">Forget the position: the crossing is to be loaded again.</param>
public sealed record ProgressUpdate(
    LogPosition? Position,
    IReadOnlyList<TableProgress> Tables,
    LogIdentity? Identity = null,
    bool Restart = false,
    string? Token = null
)
{
    public static ProgressUpdate None { get; } = new(null, []);
}
