using Vestige.Core.Positions;

namespace Vestige.Core.Joining;

/// <summary>Which joins are taken. A join that is neither proved nor derived nor told by the log itself never is.</summary>
public static class JoinRule
{
    /// <summary>Why a spool does not take a join; null when it does.</summary>
    /// <param name="join">The join.</param>
    /// <param name="branches">The branches of the spool, the last of them the one that it reads.</param>
    /// <param name="spooled">The last position that it holds.</param>
    public static string? Refusal(JoinPoint join, IReadOnlyList<LogBranch> branches, LogPosition spooled)
    {
        ArgumentNullException.ThrowIfNull(join);
        ArgumentNullException.ThrowIfNull(branches);
        if (join.Evidence.Missing is { Count: > 0 } missing)
        {
            return $"it is not {Word(join.Evidence.Kind)}: {string.Join(", ", missing.Select(Word))} "
                + $"{(missing.Count == 1 ? "is" : "are")} missing";
        }

        if (branches.Count == 0 || branches[^1].Identity != join.Old)
        {
            return $"the log that is read is {(branches.Count == 0 ? "none yet" : branches[^1].Identity)}, not {join.Old}";
        }

        if (branches[^1].IsSealed)
        {
            return $"the branch of {join.Old} has ended already";
        }

        if (join.New == join.Old && join.Begin < join.End)
        {
            return "the new branch would begin before the end of the old one in the same log";
        }

        var end = spooled.At(join.End);
        return join.Evidence.Kind == JoinKind.Derived && spooled != end
                ? $"a derived join ends the branch where its reading ended, at {spooled.Offset}, not at {join.End}"
            : spooled > end ? $"the log has been read up to {spooled.Offset}, beyond the end at {join.End}"
            : null;
    }

    private static string Word(JoinKind kind) =>
        kind switch
        {
            JoinKind.Proved => "proved",
            JoinKind.Derived => "derived",
            _ => "told by the new log",
        };

    private static string Word(JoinFact fact) =>
        fact switch
        {
            JoinFact.OldSideClosed => "the old side closed",
            JoinFact.TablesAtEnd => "every table at the end",
            JoinFact.ComparedEqual => "both sides compared equal",
            JoinFact.CataloguesEqual => "equal catalogues and sequences",
            JoinFact.BeginDurable => "a durable beginning",
            JoinFact.OnlyOwnRoutes => "no foreign change in either log",
            JoinFact.SealedBranchApplied => "the same sealed branch applied on both sides",
            JoinFact.NothingHeld => "nothing held",
            _ => "what the new log holds",
        };
}
