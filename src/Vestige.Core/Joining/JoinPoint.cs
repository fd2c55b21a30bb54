using Vestige.Core.Positions;

namespace Vestige.Core.Joining;

/// <summary>
/// Where one log ends and another begins at one and the same state of the data, so that whoever has applied the one up to its end
/// reads on in the other without a load.
/// </summary>
/// <param name="Old">The log that ends.</param>
/// <param name="End">
/// The last offset of it that is ever read. Ours where it was written by us on purpose, else the last that was captured.
/// </param>
/// <param name="New">The log that continues.</param>
/// <param name="Begin">Everything after this offset of it follows.</param>
/// <param name="Evidence">How that is known.</param>
public sealed record JoinPoint(LogIdentity Old, ulong End, LogIdentity New, ulong Begin, JoinEvidence Evidence)
{
    /// <summary>
    /// Where the new log can be continued after <see cref="Begin"/>, in its source's words; null where the offset says that.
    /// </summary>
    public string? BeginToken { get; init; }
}
