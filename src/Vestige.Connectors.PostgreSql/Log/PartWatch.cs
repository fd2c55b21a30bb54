using System.Text.Json;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;

namespace Vestige.Connectors.PostgreSql.Log;

/// <summary>
/// Notices what happens to the parts of a partitioned table and is not in the log: a part that is attached with rows,
/// detached or dropped takes its rows with it, and emptying a part is logged as nothing at all when changes are told as those
/// of the whole (PostgreSQL manual, CREATE PUBLICATION, publish_via_partition_root). So the parts are looked at every few
/// seconds and compared with those that were noted; what cannot be explained by the log is said as a change of the table.
/// <para>
/// A part that is gone is told with its bounds, so that copies can delete what they have within them, only where that is right at the place
/// where it is told: after everything before that place was read, a look found no row of the table within the bounds. A row that was there
/// at that place has gone since, and the log says so after it.
/// </para>
/// </summary>
internal sealed class PartWatch
{
    private const string NotePrefix = "parts ";
    private const int EmptiedKept = 64;
    private static readonly TimeSpan Every = TimeSpan.FromSeconds(5);
    private readonly PostgreSqlDatabase database;
    private readonly TimeProvider clock;
    private readonly IReadOnlyList<TableName> wholes;
    private readonly Dictionary<TableName, PartTree> known;
    private readonly HashSet<TableName> untold = [];
    private Task<PartTreesSeen>? looking;
    private long lookedAt;

    private PartWatch(
        PostgreSqlDatabase database,
        IReadOnlyList<TableName> wholes,
        Dictionary<TableName, PartTree> known,
        PartTreesSeen first,
        TimeProvider clock
    )
    {
        this.database = database;
        this.wholes = wholes;
        this.known = known;
        this.clock = clock;
        looking = Task.FromResult(first);
        lookedAt = clock.GetTimestamp();
    }

    /// <summary>
    /// Looks for the first time; what is partitioned and was not noted before is taken as it is. Nothing is watched when none of
    /// the tables is partitioned.
    /// </summary>
    public static async Task<PartWatch> BeginAsync(
        PostgreSqlDatabase database,
        IReadOnlySet<TableName> tables,
        IReadOnlyDictionary<string, string> notes,
        TimeProvider clock,
        CancellationToken cancellation
    )
    {
        var noted = tables
            .Select(table => (Table: table, Note: notes.GetValueOrDefault(NotePrefix + Quote.Name(table))))
            .Where(pair => pair.Note is not null)
            .ToDictionary(pair => pair.Table, pair => JsonSerializer.Deserialize<PartTree>(pair.Note!)!);
        var seen = await LookAsync(database, [.. tables.Order()], noted, cancellation);
        var watch = new PartWatch(database, [.. seen.Wholes.Keys.Union(noted.Keys).Order()], noted, seen, clock);
        foreach (var whole in seen.Wholes.Keys.Except(noted.Keys).ToList())
        {
            watch.Take(whole, seen.Wholes[whole], seen.Horizon);
        }

        return watch;
    }

    /// <summary>The log told that a table was emptied as a whole.</summary>
    public void Emptied(TableName table, uint transaction)
    {
        if (wholes.Contains(table) && known.TryGetValue(table, out var tree))
        {
            tree.Emptied.Add(transaction);
            tree.Emptied.RemoveRange(0, Math.Max(0, tree.Emptied.Count - EmptiedKept));
            untold.Add(table);
        }
    }

    /// <summary>
    /// Whether a look has found something that is to be told. The next is begun when it is time, also where the log stands still.
    /// </summary>
    public bool HasFound()
    {
        BeginLook();
        return looking is { IsCompletedSuccessfully: true }
            && looking.Result.Wholes.Any(pair => known.TryGetValue(pair.Key, out var before) && !IsSame(before, pair.Value));
    }

    private void BeginLook()
    {
        if (looking is null && wholes.Count > 0 && clock.GetElapsedTime(lookedAt) >= Every)
        {
            lookedAt = clock.GetTimestamp();
            looking = LookAsync(database, wholes, known, CancellationToken.None);
        }
    }

    /// <summary>
    /// What has happened to tables, by the log read up to a place, and is not in it, and the server's time at which it was seen. The
    /// next look is begun when it is time; throws when the last one failed.
    /// </summary>
    public async ValueTask<(DateTimeOffset At, IReadOnlyList<PartChange> Changes)> JudgeAsync(LogPosition passed)
    {
        if (looking is null)
        {
            BeginLook();
            return (default, []);
        }

        if (!looking.IsCompleted || passed < (await looking).Head)
        {
            return (default, []);
        }

        var seen = await looking;
        looking = null;
        var changes = new List<PartChange>();
        foreach (var whole in wholes)
        {
            changes.AddRange(await ChangesAsync(whole, seen));
        }

        return (seen.At, changes);
    }

    /// <summary>What is to be noted with this read.</summary>
    public IEnumerable<KeyValuePair<string, string>> TakeNotes()
    {
        foreach (var table in untold)
        {
            yield return KeyValuePair.Create(NotePrefix + Quote.Name(table), JsonSerializer.Serialize(known[table]));
        }

        untold.Clear();
    }

    private static Task<PartTreesSeen> LookAsync(
        PostgreSqlDatabase database,
        IReadOnlyList<TableName> tables,
        IReadOnlyDictionary<TableName, PartTree> before,
        CancellationToken cancellation
    ) =>
        database.UseMovingAsync(
            "Looking at the parts of tables",
            (connection, stop) => PartTreeReader.ReadAsync(connection, tables, before, stop),
            cancellation
        );

    private void Take(TableName whole, Dictionary<uint, PartTreesSeen.Node> now, long horizon)
    {
        known[whole] = new PartTree(
            now.ToDictionary(pair => pair.Key, pair => pair.Value.Part),
            known.GetValueOrDefault(whole)?.Emptied ?? [],
            horizon
        );
        untold.Add(whole);
    }

    /// <summary>One that copies must know at most, so that nobody agrees to half of it.</summary>
    private async Task<List<PartChange>> ChangesAsync(TableName whole, PartTreesSeen seen)
    {
        if (seen.Wholes.GetValueOrDefault(whole) is not { } now)
        {
            // A table that is gone as a whole is told elsewhere.
            return [];
        }

        var before = known[whole];
        if (IsSame(before, now))
        {
            known[whole] = before with { Horizon = seen.Horizon };
            return [];
        }

        Take(whole, now, seen.Horizon);
        var changes = new List<PartChange>();
        var taken = Taken(before, now).ToList();
        var brought = now.Where(pair => pair.Value.BroughtRows && !before.Nodes.ContainsKey(pair.Key)).ToList();
        if (taken.Count + brought.Count > 0)
        {
            var what = taken
                .Select(one => one.What)
                .Concat(brought.Select(pair => $"{Attached(pair.Value)} and brought rows that are not in the log"));
            var gone = brought.Count == 0 ? await GoneAsync(whole, taken) : [];
            changes.Add(new PartChange(whole, string.Join("; ", what)) { Gone = gone });
        }

        var came = now.Where(pair => pair.Value.Part.File != 0 && !pair.Value.BroughtRows && !before.Nodes.ContainsKey(pair.Key));
        changes.AddRange(came.Select(pair => new PartChange(whole, Attached(pair.Value)) { IsInLog = true }));
        return changes;
    }

    private static string Attached(PartTreesSeen.Node node) => $"{node.Part.Name} was attached as a partition";

    private async Task<IReadOnlyList<SchemaChange>> GoneAsync(
        TableName whole,
        List<(uint Part, SchemaChange Change, string What)> taken
    )
    {
        foreach (var (part, change, _) in taken)
        {
            if (
                change.Before is null
                || !await database.UseMovingAsync(
                    $"Looking for rows of {change.Subject}",
                    (connection, stop) => PartTreeReader.IsGoneAsync(connection, whole, part, change, stop),
                    CancellationToken.None
                )
            )
            {
                return [];
            }
        }

        return [.. taken.Select(one => one.Change)];
    }

    /// <summary>Parts whose rows are gone, other than by what is in the log.</summary>
    private static IEnumerable<(uint Part, SchemaChange Change, string What)> Taken(
        PartTree before,
        Dictionary<uint, PartTreesSeen.Node> now
    )
    {
        foreach (var (identifier, old) in before.Nodes.Where(pair => pair.Value.File != 0))
        {
            var change = new SchemaChange(SchemaChangeKind.PartDetached, old.Name, old.Bounds);
            if (!now.TryGetValue(identifier, out var node))
            {
                yield return (identifier, change, $"its partition {old.Name} was detached or dropped");
            }
            else if (node.Part.File != old.File && !before.Emptied.Contains(node.Writer) && !node.Survived)
            {
                var what =
                    $"its partition {old.Name} got a new file and has no row from before: it was truncated or rewritten, which the "
                    + "log does not show";
                yield return (identifier, change with { After = "truncated" }, what);
            }
        }
    }

    private static bool IsSame(PartTree before, Dictionary<uint, PartTreesSeen.Node> now) =>
        now.Count == before.Nodes.Count && now.All(pair => before.Nodes.TryGetValue(pair.Key, out var old) && old == pair.Value.Part);
}
