using Vestige.Core.Positions;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Following;

/// <summary>
/// Moves a crossing from the end of a branch to the beginning of the next, in one step where its progress is kept.
///
/// Invariants:
/// 1. The spool takes a join only with complete evidence (<see cref="Core.Joining.JoinRule"/>), and holds nothing of the old branch
///    beyond its end.
/// 2. A crossing passes only from exactly the end: all of the old branch is applied, and nothing of the new one.
/// 3. That step expects the end and writes the beginning, with the new log's identity: it happens once or not at all. A worker
///    that dies before it finds the end again and passes again; one that dies after it finds the beginning.
/// 4. The own position of a table stays as of when it was loaded, with the log that it is of: what waits in quarantine is told by it
///    from what a load made void.
///
/// Worked cases: a held table stays held. A table whose load was interrupted on the old branch begins again, for its snapshot's mark
/// means nothing to the new source. So does one whose load had read the old log beyond the end of the branch: what it read there is
/// lost, or comes again in the new log. Where only changes cross, nothing can be loaded, and the crossing does not pass
/// (<see cref="PlaceLostException"/>). So once it has passed, no table is ahead of it in an earlier log. A table that was loaded from
/// the new log already stands beyond the beginning, and is left alone.
/// A table that has not caught up with the stream is loaded again; a worker brings them to the stream before it passes
/// (<see cref="Workers.TablesBeside"/>), so that this is met only where it could not.
/// The fingerprint of a table is forgotten, since numbers of tables and columns differ between two servers; that the tables are
/// alike is a fact of the join.
/// </summary>
internal static class BranchPassage
{
    /// <summary>Passes; returns the branch that was entered.</summary>
    /// <param name="session">The hold on the progress, which is at the end of a branch.</param>
    /// <param name="spool">The spool of the source.</param>
    /// <param name="loads">Whether tables of the crossing can be loaded again.</param>
    /// <param name="cancellation">Gives up.</param>
    public static async Task<LogBranch> PassAsync(IProgressSession session, Spool spool, bool loads, CancellationToken cancellation)
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
                Remedy = "Create the crossing again, with its tables as of a position in the log that is read now.",
            };
        }

        List<TableProgress> moved =
        [
            .. session
                .Progress.Tables.Where(table => table.Position.Branch <= end.Branch)
                .Select(table => table.IsAheadOf(end) ? table.Anew() : Moved(table, old)),
        ];
        await session.SaveAsync(new ProgressUpdate(begin, moved, branch.Identity, Token: branch.BeginToken), cancellation);
        return branch;
    }

    /// <summary>
    /// Moves a crossing from a log that the spool does not know to the one that it reads, where that log itself says that it holds
    /// exactly what the crossing has: the spool may have gone on to it from elsewhere, as one that was restored from a backup does.
    /// Before the first load has ended, tables whose position lies on no branch of the spool are loaded again. False, with nothing
    /// changed, where nobody says so, where a table is beyond the crossing's position, or where the crossing lacks something from before
    /// the beginning of that log as the spool has it: the spool holds that in a log before, at a place that is not known.
    /// </summary>
    /// <param name="session">The hold on the progress.</param>
    /// <param name="spool">The spool of the source.</param>
    /// <param name="source">The log that is read now.</param>
    /// <param name="loads">Whether tables of the crossing can be loaded again.</param>
    /// <param name="cancellation">Gives up.</param>
    public static async Task<bool> ContinueAsync(
        IProgressSession session,
        Spool spool,
        ILogSource source,
        bool loads,
        CancellationToken cancellation
    )
    {
        var update =
            session.Progress.Position is not null ? await ToFollowAsync(session.Progress, spool, source, cancellation)
            : loads ? await ToLoadAgainAsync(session.Progress, spool, source, cancellation)
            : null;
        if (update is null)
        {
            return false;
        }

        await session.SaveAsync(update, cancellation);
        return true;
    }

    private static async Task<ProgressUpdate?> ToFollowAsync(
        TargetProgress progress,
        Spool spool,
        ILogSource source,
        CancellationToken cancellation
    ) =>
        progress is { Identity: { } old, Position: { Branch: LogPosition.BeforeAll } position }
        && !progress.Tables.Any(table => table.Loaded && IsBeyond(table, position, old))
        && await NextAsync(old, progress.Token ?? source.Format(position), spool, source, cancellation) is { } next
        && next.Begin >= spool.Branches[^1].Begin
            ? new ProgressUpdate(
                new LogPosition(spool.Branch, next.Begin),
                [.. progress.Tables.Select(table => Moved(table, old))],
                next.Identity,
                Token: next.Token
            )
            : null;

    /// <summary>
    /// A log that the spool has read to its end was followed by a join, so the source is the right one, and only rows that were read
    /// beyond that end are in question. Of a log that it never read, the source says whether it continues with it.
    /// </summary>
    private static async Task<ProgressUpdate?> ToLoadAgainAsync(
        TargetProgress progress,
        Spool spool,
        ILogSource source,
        CancellationToken cancellation
    )
    {
        var lost = progress.Tables.Where(table => table is { Loaded: true, Position.Branch: LogPosition.BeforeAll }).ToList();
        foreach (var table in lost)
        {
            var log = table.Log ?? progress.Identity;
            if (
                log is null
                || (
                    !spool.Branches.Any(branch => branch.Identity == log)
                    && await NextAsync(log, source.Format(table.Position), spool, source, cancellation) is null
                )
            )
            {
                return null;
            }
        }

        return lost.Count == 0 ? null : new ProgressUpdate(null, [.. lost.Select(table => table.Anew())]);
    }

    private static async Task<LogContinuity.NewBranch?> NextAsync(
        LogIdentity old,
        string token,
        Spool spool,
        ILogSource source,
        CancellationToken cancellation
    ) =>
        await source.ContinueAsync(new ResumeToken(old, token), cancellation) is LogContinuity.NewBranch next
        && next.Identity == spool.Identity
            ? next
            : null;

    private static bool IsBeyond(TableProgress table, LogPosition position, LogIdentity old) =>
        table.Log is { } log && log != old ? table.Position.Branch != LogPosition.BeforeAll : table.Position.Offset > position.Offset;

    private static TableProgress Moved(TableProgress table, LogIdentity old) =>
        table.Held || table.IsInStream ? table with { Log = table.Log ?? old, Fingerprint = null, Part = null } : table.Anew();
}
