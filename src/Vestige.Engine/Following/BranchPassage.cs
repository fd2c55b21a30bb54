using Vestige.Core.Positions;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Following;

/// <summary>
/// Moves a crossing from the end of a branch to the beginning of the next, in one transaction on its target.
///
/// Invariants:
/// 1. The spool takes a join only with complete evidence (<see cref="Core.Joining.JoinRule"/>), and holds nothing of the old branch
///    beyond its end.
/// 2. A crossing passes only from exactly the end: all of the old branch is applied, and nothing of the new one.
/// 3. The transaction expects the end and writes the beginning, with the new log's identity: it happens once or not at all. A worker
///    that dies before it finds the end again and passes again; one that dies after it finds the beginning.
/// 4. The own position of a table stays as of when it was loaded, with the log that it is of: what waits in quarantine is told by it
///    from what a load made void.
///
/// Worked cases: a held table stays held. A table whose load was interrupted on the old branch begins again, for its snapshot's mark
/// means nothing to the new source. So does one whose load had read the old log beyond the end of the branch: what it read there is
/// lost, or comes again in the new log. Where only changes cross, nothing can be loaded, and the crossing does not pass
/// (<see cref="PlaceLostException"/>). So once it has passed, no table is ahead of it in an earlier log. A table that was loaded from
/// the new log already stands beyond the beginning, and is left alone.
/// The fingerprint of a table is forgotten, since numbers of tables and columns differ between two servers; that the tables are
/// alike is a fact of the join.
/// </summary>
internal static class BranchPassage
{
    /// <summary>Passes; returns the branch that was entered.</summary>
    /// <param name="session">The hold on the target, which is at the end of a branch.</param>
    /// <param name="spool">The spool of the source.</param>
    /// <param name="loads">Whether tables of the crossing can be loaded again.</param>
    /// <param name="cancellation">Gives up.</param>
    public static async Task<LogBranch> PassAsync(ITargetSession session, Spool spool, bool loads, CancellationToken cancellation)
    {
        if (session.Progress.Position is not { } end || spool.NextOf(end) is not { } begin)
        {
            throw new InvalidOperationException("The target is not at the end of a branch.");
        }

        var branch = spool.Branches[begin.Branch];
        var old = spool.Branches[end.Branch].Identity;
        if (!loads && session.Progress.Tables.FirstOrDefault(table => table.IsAheadOf(end)) is { } ahead)
        {
            throw new PlaceLostException(
                $"{ahead.Table} was taken as of a position of the log {old} that is beyond the end at which {branch.Identity} follows."
            )
            {
                Remedy = "Make the crossing anew, with its tables as of a position in the log that is read now.",
            };
        }

        List<TableProgress> moved =
        [
            .. session
                .Progress.Tables.Where(table => table.Position.Branch <= end.Branch)
                .Select(table => table.IsAheadOf(end) ? table.Anew() : Moved(table, old)),
        ];
        await using var transaction = await session.BeginAsync(checkReferences: false, cancellation);
        await transaction.CommitAsync(new ProgressUpdate(begin, moved, branch.Identity), cancellation);
        return branch;
    }

    /// <summary>
    /// Moves a crossing from a log that the spool does not know to the one that it reads, where that log itself says that it holds
    /// exactly what the crossing has: the spool may have gone on to it from elsewhere, as one that was restored from a backup does.
    /// Before the first load has ended, what was loaded from that log is loaded again. False, with nothing changed, where nobody says
    /// so, or where a table is beyond the crossing's position.
    /// </summary>
    public static async Task<bool> ContinueAsync(ITargetSession session, Spool spool, ILogSource source, CancellationToken cancellation)
    {
        var progress = session.Progress;
        var loaded = progress.Tables.Where(table => table is { Loaded: true, Position.Branch: LogPosition.BeforeAll }).ToList();
        if (
            progress.Identity is not { } old
            || (progress.Position ?? loaded.FirstOrDefault()?.Position) is not { Branch: LogPosition.BeforeAll } position
            || (progress.Position is not null && progress.Tables.Any(table => table.Loaded && IsBeyond(table, position, old)))
            || await source.ContinueAsync(new ResumeToken(old, progress.Token ?? source.Format(position)), cancellation)
                is not LogContinuity.NewBranch next
            || next.Identity != spool.Identity
        )
        {
            return false;
        }

        var update = progress.Position is null
            ? new ProgressUpdate(null, [.. loaded.Select(table => table.Anew())], next.Identity)
            : new ProgressUpdate(
                new LogPosition(spool.Branch, next.Begin),
                [.. progress.Tables.Select(table => Moved(table, old))],
                next.Identity
            );
        await using var transaction = await session.BeginAsync(checkReferences: false, cancellation);
        await transaction.CommitAsync(update, cancellation);
        return true;
    }

    private static bool IsBeyond(TableProgress table, LogPosition position, LogIdentity old) =>
        table.Log is { } log && log != old ? table.Position.Branch != LogPosition.BeforeAll : table.Position.Offset > position.Offset;

    private static TableProgress Moved(TableProgress table, LogIdentity old) =>
        table.Held || table.Loaded ? table with { Log = table.Log ?? old, Form = null, Part = null } : table.Anew();
}
