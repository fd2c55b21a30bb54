using Vestige.Core.Positions;

namespace Vestige.Engine.Ports;

/// <summary>
/// What the target knows of a crossing: committed with its rows, so that the two cannot disagree. A target stores offsets with the
/// identity of their log; the numbers of branches are put on when it is opened (<see cref="Match"/>).
/// </summary>
/// <param name="Identity">The log of <paramref name="Position"/>, and of the tables that name none; null before the first load.</param>
/// <param name="Position">Everything up to here is applied, tables that are behind or held apart; null before the first load ends.</param>
/// <param name="Tables">The tables that were begun.</param>
/// <param name="Token">Where the log can be continued after the position, in the source's words; null where the position says that.</param>
public sealed record TargetProgress(LogIdentity? Identity, LogPosition? Position, IReadOnlyList<TableProgress> Tables, string? Token = null)
{
    private Tuple<IReadOnlyList<TableProgress>, LogPosition?, LogPosition?>? lowest;

    /// <summary>The list of tables that is known to be in the order of their names; null or another list where it is not known.</summary>
    private IReadOnlyList<TableProgress>? ordered;

    private static readonly Comparer<TableProgress> ByTable = Comparer<TableProgress>.Create(
        (one, other) => one.Table.CompareTo(other.Table)
    );

    public static TargetProgress None { get; } = new(null, null, []);

    /// <summary>
    /// After where the log is still needed: the position, or what a table needs that catches up with it or whose load was interrupted.
    /// Null before the first load ends.
    /// </summary>
    public LogPosition? NeededAfter =>
        Position is { } position && Lowest.Needed is { } needed ? LogPosition.Min(position, needed) : Position;

    /// <summary>After where the log is wanted for tables that are held, so that they can continue; null where it is not.</summary>
    public LogPosition? WantedAfter => Lowest.Wanted;

    /// <summary>The lowest positions that tables need on their own; looked for once for each list of tables, which may be long.</summary>
    private (LogPosition? Needed, LogPosition? Wanted) Lowest
    {
        get
        {
            var known = lowest;
            if (known is null || !ReferenceEquals(known.Item1, Tables))
            {
                var (needed, wanted) = (default(LogPosition?), default(LogPosition?));
                foreach (var table in Tables)
                {
                    if (table.Held)
                    {
                        wanted = Least(wanted, table.Reached);
                    }
                    else
                    {
                        needed = Least(needed, table.Reached ?? (table.Loaded ? null : table.Part?.Since));
                    }
                }

                lowest = known = Tuple.Create(Tables, needed, wanted);
            }

            return (known.Item2, known.Item3);
        }
    }

    private static LogPosition? Least(LogPosition? one, LogPosition? other) =>
        one is { } first && other is { } second ? LogPosition.Min(first, second) : one ?? other;

    /// <summary>
    /// The same with its positions on the branches on which they lie, so that they compare. A position of a log that the spool does not
    /// know is put before all (<see cref="LogPosition.BeforeAll"/>): of a table it was passed before the spool began, and a crossing is
    /// not let continue from it. A table that was loaded from beyond the end of a branch is put on that branch, after its end: nothing that
    /// the branch holds is applied to it, and what follows is decided where the crossing passes on.
    /// </summary>
    public TargetProgress Match(IReadOnlyList<LogBranch> branches)
    {
        ArgumentNullException.ThrowIfNull(branches);
        return branches.Count == 0
            ? this
            : this with
            {
                Position = Position is { } position ? position.On(BranchOf(branches, Identity, position)) : null,
                Tables =
                [
                    .. Tables.Select(table => table.On(BranchOf(branches, table))),
                ],
            };
    }

    /// <summary>The progress after an update, its tables in the order of their names.</summary>
    public TargetProgress With(ProgressUpdate update)
    {
        ArgumentNullException.ThrowIfNull(update);
        var tables = update.Tables.Count == 0 ? Tables : TablesWith(update.Tables);
        var after = update.Position is { } position
            ? new TargetProgress(update.Identity ?? Identity, position, tables, update.Token)
            : new TargetProgress(update.Identity ?? Identity, update.Restart ? null : Position, tables, update.Restart ? null : Token);
        after.ordered = update.Tables.Count == 0 ? ordered : tables;
        return after;
    }

    /// <summary>Each table of a load of thousands ends with an update of its own: one must not cost the time of sorting all.</summary>
    private List<TableProgress> TablesWith(IReadOnlyList<TableProgress> changed)
    {
        List<TableProgress> tables = ReferenceEquals(ordered, Tables) ? [.. Tables] : [.. Tables.OrderBy(table => table.Table)];
        foreach (var table in changed)
        {
            var place = tables.BinarySearch(table, ByTable);
            if (place >= 0)
            {
                tables[place] = table;
            }
            else
            {
                tables.Insert(~place, table);
            }
        }

        return tables;
    }

    private int BranchOf(IReadOnlyList<LogBranch> branches, TableProgress table)
    {
        var log = table.Log ?? Identity;
        var branch = BranchOf(branches, log, table.Part?.Since ?? table.Position);
        return branch != LogPosition.BeforeAll || Position is null ? branch : LastOf(branches, log);
    }

    private static int LastOf(IReadOnlyList<LogBranch> branches, LogIdentity? identity)
    {
        for (var number = branches.Count - 1; number >= 0; number--)
        {
            if (branches[number].Identity == identity)
            {
                return number;
            }
        }

        return LogPosition.BeforeAll;
    }

    private static int BranchOf(IReadOnlyList<LogBranch> branches, LogIdentity? identity, LogPosition position) =>
        identity is not null && LogBranch.Find(branches, identity, position.Offset) is { } branch ? branch : LogPosition.BeforeAll;
}
