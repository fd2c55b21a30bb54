using Vestige.Core.Joining;
using Vestige.Core.Positions;

namespace Vestige.Engine.Spooling;

/// <summary>
/// The first record of a spool file: which log it is of, and what came before it. A file is of one branch. Files of before there were
/// branches have none listed: they are of the first.
/// </summary>
/// <param name="Server">The server of the branch's identity.</param>
/// <param name="Timeline">The timeline of the branch's identity.</param>
/// <param name="After">The offset after which the file begins, on its branch.</param>
/// <param name="Transactions">How many transactions came before it, since the spool began.</param>
/// <param name="Changes">The same for changes.</param>
/// <param name="Branches">All branches up to that of the file, the last of them; null in files of before.</param>
/// <param name="Join">
/// The join at which the branch is to end, where that was known when the file was begun; a record of the file may tell it later.
/// </param>
/// <param name="Token">Where the log can be continued after <paramref name="After"/>; null where the offset says that.</param>
internal sealed record SpoolHeader(
    string Server,
    long Timeline,
    ulong After,
    long Transactions,
    long Changes,
    IReadOnlyList<LogBranch>? Branches = null,
    string? Token = null,
    JoinPoint? Join = null
)
{
    public IReadOnlyList<LogBranch> AllBranches => Branches ?? [new LogBranch(new LogIdentity(Server, Timeline), 0)];

    /// <summary>The number of the file's branch.</summary>
    public int Branch => AllBranches.Count - 1;

    /// <summary>Where the file begins.</summary>
    public LogPosition Start => new(Branch, After);
}
