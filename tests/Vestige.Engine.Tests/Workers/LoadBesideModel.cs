using System.Collections.Immutable;

namespace Vestige.Engine.Tests.Workers;

/// <summary>
/// The rules by which a table is loaded beside the stream, in plain code and small enough that every order of steps can be tried: a source
/// whose commits are logged first and visible later, in any order; a capture; the stream; a load; a process that dies between any two
/// steps; rows that the target refuses; a mark at which to stop; a held table. It shares no code with what it models.
/// </summary>
internal sealed record LoadBesideModel
{
    public const int Parent = 0;
    public const int Child = 1;
    public const int Held = 2;
    private const int Tables = 3;

    /// <summary>The position after the last transaction before the load; all tables stand there.</summary>
    private const int Begin = 2;

    /// <summary>What commits, in the order of the log; positions count from 1. The first two are there when it begins.</summary>
    private static readonly ImmutableArray<ImmutableArray<(int Table, int Key, int? Value)>> Log =
    [
        [(Parent, 1, 10), (Parent, 2, 20), (Held, 1, 1)],
        [(Child, 1, 1), (Held, 1, 2)],
        [(Parent, 3, 30), (Child, 2, 3), (Held, 1, 3)],
        [(Parent, 2, null), (Child, 1, 3)],
        [(Parent, 1, 11), (Child, 3, 1)],
        [(Parent, 1, 12), (Parent, 4, 40)],
    ];

    /// <summary>The row that the target refuses until a person has seen to it.</summary>
    private static readonly (int Table, int Key) Refused = (Parent, 1);

    /// <summary>What the rules leave out, to see that it is found; null where they are whole.</summary>
    public string? Without { get; init; }

    /// <summary>The position at which the crossing is to stop; above the end of the log for none.</summary>
    public int StopAt { get; init; } = int.MaxValue;

    private int Logged { get; init; } = Begin;

    private int Visible { get; init; } = (1 << Begin) - 1;

    private int Captured { get; init; } = Begin;

    private int Stream { get; init; } = Begin;

    /// <summary>What the spool has dropped.</summary>
    private int Dropped { get; init; } = Begin;

    private ImmutableSortedDictionary<(int Table, int Key), int> Rows { get; init; } = At(Begin, Begin, Begin);

    /// <summary>The load: where the stream stood when it began, its snapshot's position, and how many of its rows are beside.</summary>
    private (int Since, int? Snapshot)? Load { get; init; }

    /// <summary>What the snapshot sees, as bits by position.</summary>
    private int SeenBySnapshot { get; init; }

    private bool IsLoaded { get; init; } = true;

    private int LoadedAt { get; init; } = Begin;

    private int? Reached { get; init; }

    /// <summary>Positions of changes of the refused row that wait.</summary>
    private ImmutableSortedSet<int> Aside { get; init; } = [];

    /// <summary>The position of one that is written down, while the commit that passes it over has yet to happen.</summary>
    private int? Pending { get; init; }

    private int ReloadsLeft { get; init; } = 2;

    private int DeathsLeft { get; init; } = 1;

    private bool IsAllVisible => Visible == (1 << Logged) - 1;

    private int Applied => Reached ?? Stream;

    private bool IsInStream => IsLoaded && Reached is null;

    private bool MayStop => Stream == Math.Min(StopAt, Log.Length) && IsInStream;

    /// <summary>Told apart by all that it holds.</summary>
    public string Key =>
        string.Join(
            ' ',
            Logged,
            Visible,
            Captured,
            Stream,
            Dropped,
            string.Join(',', Rows.Select(row => $"{row.Key}{row.Value}")),
            Load,
            SeenBySnapshot,
            IsLoaded,
            LoadedAt,
            Reached,
            string.Join(',', Aside),
            Pending,
            ReloadsLeft,
            DeathsLeft
        );

    /// <summary>What is wrong in this state; null when nothing is.</summary>
    public string? Wrong()
    {
        var isKnown = IsLoaded && LoadedAt <= Applied;
        if (Difference(At(Applied, Stream, Begin), isKnown ? Parent : Child) is { } wrong)
        {
            return $"{wrong} at {Applied}, the stream at {Stream}";
        }

        return IsInStream && LoadedAt <= Stream && Aside.IsEmpty && Orphan() is { } orphan ? $"a child of no parent: {orphan}"
            : Stream > StopAt || (Reached > StopAt && Reached > LoadedAt) ? "beyond the mark"
            : Reached > Stream && Reached > LoadedAt ? "ahead of the stream"
            : Reached < Dropped || (Load is { Snapshot: { } at } && at < Dropped) ? "the spool dropped what is needed"
            : null;
    }

    /// <summary>What is wrong where nothing can happen any more.</summary>
    public string? WrongAtRest() => MayStop ? null : $"it rests at {Stream}, apart at {Reached}, loaded: {IsLoaded}";

    /// <summary>Every state to which one step leads.</summary>
    public IEnumerable<LoadBesideModel> Steps()
    {
        if (Logged < Log.Length)
        {
            yield return this with { Logged = Logged + 1 };
        }

        for (var i = 0; i < Logged; i++)
        {
            if ((Visible & (1 << i)) == 0)
            {
                yield return this with { Visible = Visible | (1 << i) };
            }
        }

        if (Captured < Logged)
        {
            yield return this with { Captured = Captured + 1 };
        }

        foreach (var next in OfLoad().Concat(OfStream()).Concat(OfCatchUp()).Concat(OfOthers()))
        {
            yield return next;
        }
    }

    private IEnumerable<LoadBesideModel> OfLoad()
    {
        if (!IsLoaded && Load is null)
        {
            yield return this with { Load = (Stream, null) };
        }

        // A snapshot is opened where all that is logged up to its position is visible, and nothing else.
        if (Load is { Snapshot: null } begun && (IsAllVisible || Without == "waiting for what is logged to be visible"))
        {
            yield return this with { Load = (begun.Since, Logged), SeenBySnapshot = Visible };
        }

        if (Load is { Snapshot: { } at })
        {
            var rows = Rows.RemoveRange(Rows.Keys.Where(key => key.Table == Parent)).AddRange(Seen(SeenBySnapshot));
            var reached = Without == "catching up" ? (int?)null : at;
            yield return this with { Rows = rows, IsLoaded = true, LoadedAt = at, Reached = reached, Load = null, SeenBySnapshot = 0 };
        }
    }

    private IEnumerable<LoadBesideModel> OfStream()
    {
        if (Stream >= Math.Min(Captured, StopAt) || Pending is not null)
        {
            yield break;
        }

        var next = Stream + 1;
        var takes = IsInStream && next > LoadedAt;
        if (takes && IsAside(next))
        {
            // It is written down first, and counts once the position has passed it.
            yield return this with { Pending = next };
            yield break;
        }

        yield return Apply(next, [Child, .. takes ? new[] { Parent } : []]) with { Stream = next };
    }

    private IEnumerable<LoadBesideModel> OfCatchUp()
    {
        if (Pending is { } pending)
        {
            yield return Reached is null
                ? Apply(pending, [Child, Parent]) with { Stream = pending, Pending = null, Aside = Aside.Add(pending) }
                : Apply(pending, [Parent]) with { Reached = pending, Pending = null, Aside = Aside.Add(pending) };
        }
        else if (Reached is { } reached)
        {
            var end = Without == "stopping at the stream" ? Captured : Stream;
            if (reached >= end)
            {
                yield return this with { Reached = null };
            }
            else if (IsAside(reached + 1))
            {
                yield return this with { Pending = reached + 1 };
            }
            else
            {
                yield return Apply(reached + 1, [Parent]) with { Reached = reached + 1 };
            }
        }
    }

    private IEnumerable<LoadBesideModel> OfOthers()
    {
        var needed = new[] { Stream, Reached ?? Stream, Load?.Since ?? Stream };
        if (Without == "keeping the log")
        {
            needed = [Stream];
        }

        if (Dropped < needed.Min())
        {
            yield return this with { Dropped = needed.Min() };
        }

        if (IsInStream && Pending is null && ReloadsLeft > 0)
        {
            yield return this with { IsLoaded = false, LoadedAt = 0, Aside = [], ReloadsLeft = ReloadsLeft - 1 };
        }

        if (DeathsLeft > 0)
        {
            var applied = Without == "its own position in quarantine" ? Stream : Applied;
            yield return this with
            {
                Load = null,
                SeenBySnapshot = 0,
                Pending = null,
                Aside = IsLoaded ? [.. WrittenDown.Where(at => at <= applied && at > LoadedAt)] : [],
                DeathsLeft = DeathsLeft - 1,
            };
        }
    }

    /// <summary>A change of the refused row; behind one that waits, all of that row wait.</summary>
    private static bool IsAside(int position) => Log[position - 1].Any(change => (change.Table, change.Key) == Refused);

    private LoadBesideModel Apply(int position, int[] tables)
    {
        var rows = Rows;
        foreach (var (table, key, value) in Log[position - 1].Where(change => tables.Contains(change.Table)))
        {
            if ((table, key) != Refused || position <= Begin)
            {
                rows = value is { } there ? rows.SetItem((table, key), there) : rows.Remove((table, key));
            }
        }

        return this with { Rows = rows };
    }

    private ImmutableSortedSet<int> WrittenDown => Pending is { } pending ? Aside.Add(pending) : Aside;

    /// <summary>Of the tables from one on.</summary>
    private string? Difference(ImmutableSortedDictionary<(int Table, int Key), int> all, int from)
    {
        // The refused row is as it was before the first change that waits; with what waits applied, it is as at the source.
        var there = Rows;
        foreach (var at in Aside)
        {
            there = Log[at - 1]
                .Where(change => (change.Table, change.Key) == Refused)
                .Aggregate(there, (rows, change) => rows.SetItem(Refused, change.Value!.Value));
        }

        var (found, expected) = (there.Where(row => row.Key.Table >= from), all.Where(row => row.Key.Table >= from));
        return found.SequenceEqual(expected) ? null : $"there is {string.Join(", ", found)}, and {string.Join(", ", expected)} should be";
    }

    private string? Orphan() =>
        Rows.Where(row => row.Key.Table == Child && !Rows.ContainsKey((Parent, row.Value)))
            .Select(row => $"{row.Key.Key}")
            .FirstOrDefault();

    private static ImmutableSortedDictionary<(int Table, int Key), int> Seen(int visible) =>
        Of(Enumerable.Range(1, Log.Length).Where(at => (visible & (1 << (at - 1))) != 0), Parent);

    /// <summary>The tables as the source had them, each at a position.</summary>
    private static ImmutableSortedDictionary<(int Table, int Key), int> At(params int[] positions) =>
        Enumerable
            .Range(0, Tables)
            .Select(table => Of(Enumerable.Range(1, positions[table]), table))
            .Aggregate((left, right) => left.AddRange(right));

    private static ImmutableSortedDictionary<(int Table, int Key), int> Of(IEnumerable<int> positions, int table)
    {
        var rows = ImmutableSortedDictionary<(int Table, int Key), int>.Empty;
        foreach (var (_, key, value) in positions.SelectMany(at => Log[at - 1]).Where(change => change.Table == table))
        {
            rows = value is { } there ? rows.SetItem((table, key), there) : rows.Remove((table, key));
        }

        return rows;
    }
}
