using Vestige.Core.Joining;

namespace Vestige.Core.Positions;

/// <summary>
/// An unbroken stretch of one log as a spool reads it. A branch without an end is the one that is being read; a sealed one has
/// ended for good.
/// </summary>
/// <param name="Identity">The log.</param>
/// <param name="Begin">Everything after this offset belongs to the branch.</param>
/// <param name="End">The last offset that belongs to it; null while it has not ended.</param>
/// <param name="OpenedBy">
/// How it is known that the end of the branch before and this beginning are one state of the data; null for a first branch.
/// </param>
public sealed record LogBranch(LogIdentity Identity, ulong Begin, ulong? End = null, JoinEvidence? OpenedBy = null)
{
    /// <summary>Where the log can be continued after <see cref="Begin"/>, in its source's words; null where the offset says that.</summary>
    public string? BeginToken { get; init; }

    public bool IsSealed => End is not null;

    /// <summary>Whether an offset is on the branch; its beginning is, since a reader may stand there.</summary>
    public bool Contains(ulong offset) => offset >= Begin && (End is null || offset <= End);

    /// <summary>
    /// The number of the branch on which an offset of a log lies; null when it lies on none of them. A log can be read twice, before
    /// and after its database was away; an offset up to the end of the earlier branch is on that one.
    /// </summary>
    public static int? Find(IReadOnlyList<LogBranch> branches, LogIdentity identity, ulong offset)
    {
        ArgumentNullException.ThrowIfNull(branches);
        for (var number = 0; number < branches.Count; number++)
        {
            // What was read before the spool began counts as its first branch: it says that it no longer holds it.
            if (branches[number].Identity == identity && (branches[number].End is null || offset <= branches[number].End))
            {
                return number;
            }
        }

        return null;
    }
}
