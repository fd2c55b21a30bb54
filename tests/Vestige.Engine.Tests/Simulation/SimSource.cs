using System.Buffers;
using System.Runtime.CompilerServices;
using Vestige.Core.Changes;
using Vestige.Core.Loading;
using Vestige.Core.Positions;
using Vestige.Core.Readiness;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;
using Vestige.Engine.Tests.Doubles;
using Xunit;

namespace Vestige.Engine.Tests.Simulation;

/// <summary>The simulated source database: rows, and a log from which everything confirmed is dropped at once.</summary>
public sealed class SimSourceState
{
    private readonly Dictionary<LogPosition, ulong> hashes = new() { [LogPosition.Zero] = 0 };
    private readonly Dictionary<TableName, List<(LogPosition At, ulong Hash)>> tableHashes = SimRows.All.ToDictionary(table => table.Name, _ => new List<(LogPosition, ulong)>());
    private ulong hash;

    public sealed record Entry(LogPosition Position, DateTimeOffset CommittedAt, IReadOnlyList<RowChange> Changes);

    public List<Entry> Log { get; } = [];

    /// <summary>All that was ever committed, whatever of it the log still has.</summary>
    public List<Entry> History { get; } = [];

    public LogPosition Head { get; private set; }

    public LogPosition Oldest { get; private set; }

    public AsyncSignal Committed { get; } = new();

    public Dictionary<TableName, SortedDictionary<long, Row>> Rows { get; } = SimRows.All.ToDictionary(table => table.Name, _ => new SortedDictionary<long, Row>());

    /// <summary>Where each row stands in its table's file, and since which position: it moves with every change.</summary>
    public Dictionary<(TableName Table, long Key), (LogPosition Since, long Block)> Places { get; } = [];

    /// <summary>The last note that the present reader gave.</summary>
    public LogPosition Noted { get; set; }

    /// <summary>Its reader; one of a process that was killed may still end a read.</summary>
    public ILogReader? Reading { get; set; }

    private LogPosition due;

    public const int Blocks = 6;

    /// <summary>What is done to its tables beside the log.</summary>
    public SimRestructuring Restructuring { get; init; } = new(happens: false);

    /// <summary>A broken source: a later snapshot does not give what changed in the ranges that were loaded before.</summary>
    public bool HidesChanges { get; init; }

    /// <summary>A broken source: a view shows the rows as they were before the last transaction that it claims to show.</summary>
    public bool ViewsLag { get; init; }

    /// <summary>The rows before the last transaction; kept only for <see cref="ViewsLag"/>.</summary>
    public Dictionary<TableName, IReadOnlyList<Row>> Earlier { get; private set; } = [];

    /// <summary>What happens to rows on the way to the target whose states are told.</summary>
    public SimTreatment Treatment { get; set; } = SimTreatment.None;

    /// <summary>The state that the target has to have as of a position.</summary>
    public ulong HashAt(LogPosition position) => hashes[position];

    public bool Knows(LogPosition position) => hashes.ContainsKey(position);

    public Dictionary<TableName, IReadOnlyList<Row>> Shown() => Rows.ToDictionary(pair => pair.Key, IReadOnlyList<Row> (pair) => [.. pair.Value.Values]);

    /// <summary>The hash of one table's rows as of a position.</summary>
    public ulong HashAt(TableName table, LogPosition position) => tableHashes[table].FindLast(known => known.At <= position).Hash;

    /// <summary>Changes a table beside the log.</summary>
    public void Restructure(TableName table, int kind)
    {
        Head = new LogPosition(Head.Place + 1);
        var rows = Restructuring.Make(table, kind, Head, [.. Rows[table].Values]).ToList();
        Rows[table].Clear();
        foreach (var row in rows)
        {
            Rows[table].Add(row.IntegerAt(0), row);
        }

        Remember();
    }

    /// <summary>The connector looks at all tables, and what it finds has a place of its own in the log.</summary>
    public void Look(DateTimeOffset at)
    {
        var found = Restructuring.Look(SimRows.All.Select(table => table.Name), new LogPosition(Head.Place + 2)).ToList();
        if (found.Count > 0)
        {
            Head = new LogPosition(Head.Place + 2);
            Log.Add(new Entry(Head, at, found));
            Remember();
            Committed.Beat();
        }
    }

    private void Remember()
    {
        foreach (var (table, rows) in Rows.Where(_ => Restructuring.Happens))
        {
            tableHashes[table].Add((Head, rows.Values.Aggregate(0UL, (sum, row) => sum + SimRows.Hash(table, row))));
        }
    }

    public void Commit(DateTimeOffset at, IReadOnlyList<RowChange> changes)
    {
        if (ViewsLag)
        {
            Earlier = Shown();
        }

        foreach (var change in changes)
        {
            Take(change);
        }

        Head = new LogPosition(Head.Place + 1 + (ulong)changes.Count);
        hashes[Head] = hash;
        Remember();
        var seen = Restructuring.Look(changes.Select(change => Restructuring.Relations[change.Relation].Name).Distinct(), Head).ToList();
        Log.Add(new Entry(Head, at, Restructuring.IsSeenLate ? [.. changes, .. seen] : [.. seen, .. changes]));
        History.Add(Log[^1]);
        Committed.Beat();
    }

    /// <summary>What is confirmed is gone for good, so that a confirmation too early is a loss.</summary>
    public void Confirm(LogPosition position)
    {
        Oldest = LogPosition.Max(Oldest, position);
        Log.RemoveAll(entry => entry.Position <= position);
    }

    /// <summary>
    /// A reader's notes are durable when it is told to confirm, and never before what was read with them. A crash in between
    /// may leave the fragments without their note, and then the next reader goes on from the note before.
    /// </summary>
    public void ExpectNotes(LogRequest request)
    {
        Noted = request.Notes.TryGetValue("given", out var text) ? new LogPosition(ulong.Parse(text, System.Globalization.CultureInfo.InvariantCulture)) : LogPosition.Zero;
        Assert.True(Noted <= request.After, $"A note of {Noted} is there, and the spool ends at {request.After}.");
        Assert.True(Noted >= due, $"A confirmation came with the note of {due}, and the last that is left is of {Noted}.");
    }

    /// <summary>The present reader was told to confirm, so its notes are durable.</summary>
    public void HaveNotes() => due = Noted;

    public void ForgetNotes() => Noted = due = LogPosition.Zero;

    private void Take(RowChange change)
    {
        var table = Restructuring.Relations[change.Relation].Name;
        var rows = Rows[table];
        if (change.Kind == ChangeKind.Truncate)
        {
            foreach (var row in rows.Values)
            {
                hash -= Treatment.Hash(table, row);
            }

            rows.Clear();
            return;
        }

        if (!change.Before.IsNone)
        {
            hash -= Treatment.Hash(table, change.Before);
            rows.Remove(change.Before.IntegerAt(0));
        }

        if (!change.After.IsNone)
        {
            hash += Treatment.Hash(table, change.After);
            var key = change.After.IntegerAt(0);
            rows.Add(key, change.After);
            var next = new LogPosition(Head.Place + 1);
            Places[(table, key)] = (next, (long)((ulong)(key * 7) + (next.Place * 5)) % Blocks);
        }
    }
}

/// <summary>The source as one process reaches it.</summary>
public sealed class SimSource(SimSourceState state, SimFaults faults, SimWorld world) : IProbe, ICatalogue, IRowLookup, ILogSource, IRowSource
{
    public static readonly LogIdentity Identity = new("sim", 1);
    private ILogReader? mine;

    public async Task<SourceHead> SampleAsync(LogPosition captured, CancellationToken cancellation)
    {
        await faults.BeforeAsync("source.sample", cancellation);
        return new SourceHead(Identity, state.Head, state.Oldest, 0, null, state.Log.Find(entry => entry.Position > captured)?.CommittedAt, world.Now);
    }

    public string Engine => "sim";

    public IEngineTypes Types => PlainTypes.Instance;

    public Task<string> GetIdentityAsync(CancellationToken cancellation) => Task.FromResult("source");

    public Task<bool> IsSameAsync(IProbe other, CancellationToken cancellation) => Task.FromResult(false);

    public async Task<LogPosition> BeginLogAsync(CancellationToken cancellation)
    {
        await faults.BeforeAsync("source.begin", cancellation);
        faults.After("source.begin");
        state.ForgetNotes();
        return state.Head;
    }

    public Task EndLogAsync(CancellationToken cancellation) => Task.CompletedTask;

    public async Task<ILogReader> OpenLogAsync(LogRequest request, CancellationToken cancellation)
    {
        await faults.BeforeAsync("source.open", cancellation);
        state.ExpectNotes(request);
        var reader = new Reader(state, faults, world, request.After, request.Tables);
        state.Reading = mine = reader;
        return reader;
    }

    public Task EnsureReadAsync(IReadOnlyList<TableName> tables, CancellationToken cancellation) => Task.CompletedTask;

    public async Task ConfirmAsync(LogPosition position, CancellationToken cancellation)
    {
        await faults.BeforeAsync("source.confirm", cancellation);
        state.Confirm(position);
        if (mine is not null && state.Reading == mine)
        {
            state.HaveNotes();
        }

        faults.After("source.confirm");
    }

    public async Task<ISourceSnapshot> OpenSnapshotAsync(int readers, CancellationToken cancellation)
    {
        await faults.BeforeAsync("source.snapshot", cancellation);
        return new Snapshot(state, faults, world);
    }

    public async Task<IRowsView> OpenViewAsync(CancellationToken cancellation)
    {
        await faults.BeforeAsync("source.view", cancellation);
        return new SimView(state.Head, TargetProgress.None, state.ViewsLag ? state.Earlier : state.Shown(), faults, state.Restructuring.Tables);
    }

    public Task<IReadOnlyList<ReadinessLine>> CheckSourceAsync(IReadOnlyList<TableName> tables, CancellationToken cancellation) =>
        Task.FromResult<IReadOnlyList<ReadinessLine>>([]);

    public string Footprint => "";

    public string Format(LogPosition position) => position.ToString();

    public LogPosition? Parse(string text) => ulong.TryParse(text, out var place) ? new LogPosition(place) : null;

    public long Distance(LogPosition from, LogPosition to) => (long)(to.Place - from.Place);

    public Task<IReadOnlyList<TableDescription>> ReadTablesAsync(CancellationToken cancellation) =>
        Task.FromResult<IReadOnlyList<TableDescription>>([.. state.Restructuring.Tables.Select(table => new TableDescription(table, state.Rows[table.Name].Count, null, null))]);

    public Task<long> CountAsync(TableName table, SharedRows? only, CancellationToken cancellation) => Task.FromResult((long)state.Rows[table].Count);

    public Task<Row?> FindAsync(TableSchema table, IReadOnlyList<string> key, CancellationToken cancellation) => Task.FromResult<Row?>(null);

    public Task<IReadOnlyList<Row>> SampleRowsAsync(TableSchema table, int rows, CancellationToken cancellation) => Task.FromResult<IReadOnlyList<Row>>([]);

    public Task<IReadOnlyList<ReadinessLine>> TestAsync(CancellationToken cancellation) => Task.FromResult<IReadOnlyList<ReadinessLine>>([]);

    private sealed class Reader(SimSourceState state, SimFaults faults, SimWorld world, LogPosition after, IReadOnlySet<TableName> tables) : ILogReader
    {
        private readonly HashSet<int> told = [];
        private readonly Queue<LogFragment> parts = new();
        private LogPosition cursor = after;
        private LogPosition passed = after;

        public async ValueTask<LogRead> ReadAsync(TimeSpan wait, CancellationToken cancellation)
        {
            await faults.BeforeAsync("log.read", cancellation);
            if (cursor < state.Oldest && parts.Count == 0)
            {
                throw new PlaceLostException($"The log begins at {state.Oldest}, the reader stands at {cursor}.");
            }

            if (parts.Count == 0 && state.Log.TrueForAll(entry => entry.Position <= cursor))
            {
                var committed = state.Committed.Next;
                await Task.WhenAny(committed, Task.Delay(wait, world.ClockOf(faults), cancellation));
                cancellation.ThrowIfCancellationRequested();
            }

            return Next();
        }

        public ValueTask DisposeAsync() => ValueTask.CompletedTask;

        private LogRead Next()
        {
            var fragments = new List<LogFragment>();
            var relations = new Dictionary<int, TableSchema>();
            var most = world.Random.Next(1, 6);
            while (fragments.Count < most)
            {
                if (parts.Count > 0)
                {
                    var part = parts.Dequeue();
                    fragments.Add(part);
                    passed = part.Last ? part.Position : passed;
                    continue;
                }

                var entry = state.Log.Find(candidate => candidate.Position > cursor);
                if (entry is null)
                {
                    passed = LogPosition.Max(passed, state.Head);
                    cursor = passed;
                    break;
                }

                cursor = entry.Position;
                Split(entry, relations);
                passed = parts.Count == 0 ? entry.Position : passed;
            }

            return new LogRead(fragments, relations, passed, parts.Count == 0 && cursor >= state.Head) { Notes = Noted(fragments) };
        }

        private Dictionary<string, string> Noted(List<LogFragment> fragments)
        {
            if (fragments.Count == 0 || !fragments[^1].Last)
            {
                return [];
            }

            if (state.Reading == this)
            {
                state.Noted = fragments[^1].Position;
            }

            return new Dictionary<string, string> { ["given"] = $"{fragments[^1].Position.Place}" };
        }

        private void Split(SimSourceState.Entry entry, Dictionary<int, TableSchema> relations)
        {
            var chosen = entry.Changes.Where(change => tables.Contains(state.Restructuring.Relations[change.Relation].Name)).ToList();
            foreach (var relation in chosen.Select(change => change.Relation).Where(told.Add))
            {
                relations.Add(relation, state.Restructuring.Relations[relation]);
            }

            if (chosen.Count == 0)
            {
                return;
            }

            var size = entry.Changes.Count > 12 ? 4 : int.MaxValue;
            var groups = chosen.Chunk(Math.Min(size, chosen.Count)).ToList();
            for (var i = 0; i < groups.Count; i++)
            {
                var bytes = new ArrayBufferWriter<byte>();
                foreach (var change in groups[i])
                {
                    ChangeWriter.Write(bytes, change);
                }

                parts.Enqueue(new LogFragment(entry.Position, entry.CommittedAt, i == 0, i == groups.Count - 1, groups[i].Length, bytes.WrittenMemory));
            }
        }
    }

    private sealed class Snapshot(SimSourceState state, SimFaults faults, SimWorld world) : ISourceSnapshot
    {
        private readonly IReadOnlyList<TableSchema> forms = state.Restructuring.Tables;
        private readonly Dictionary<TableName, List<Row>> rows = state.Rows.ToDictionary(pair => pair.Key, pair => pair.Value.Values.ToList());
        private readonly Dictionary<(TableName Table, long Key), (LogPosition Since, long Block)> places = new(state.Places);

        public LogPosition Position { get; } = state.Head;

        public DateTimeOffset TakenAt { get; } = world.Now;

        public Task<IReadOnlyList<TableDescription>> ReadTablesAsync(CancellationToken cancellation) =>
            Task.FromResult<IReadOnlyList<TableDescription>>([.. forms.Select(table => new TableDescription(table, rows[table.Name].Count, null, null))]);

        public async Task<IReadOnlyList<KeyRange>> CutAsync(TableSchema table, int chunks, CancellationToken cancellation)
        {
            await faults.BeforeAsync("snapshot.cut", cancellation);
            return rows[table.Name].Count < 4
                ? [default]
                : [new KeyRange(default, Block(2)), new KeyRange(Block(2), Block(4)), new KeyRange(Block(4), default)];
        }

        public async Task<string?> MarkAsync(TableSchema table, CancellationToken cancellation)
        {
            await faults.BeforeAsync("snapshot.mark", cancellation);
            return world.Seed % 3 == 0 ? null : $"{Position.Place}";
        }

        public async Task<IReadOnlyList<RowRange>?> CutRestAsync(TableSchema table, LoadPart part, int chunks, CancellationToken cancellation)
        {
            await faults.BeforeAsync("snapshot.rest", cancellation);
            if (state.Restructuring.HappenedSince(table.Name, part.Since))
            {
                return null;
            }

            world.Count("snapshot.rest", "gone on");
            var ranges = part.Done.Select(done => new RowRange(done, part.Mark)).ToList();
            for (var block = 0L; block < SimSourceState.Blocks; block++)
            {
                if (!part.Done.Any(done => Lies(block, done)))
                {
                    ranges.Add(new RowRange(new KeyRange(block == 0 ? default : Block(block), block == SimSourceState.Blocks - 1 ? default : Block(block + 1))));
                }
            }

            return ranges;
        }

        /// <summary>The row of a range holds the number of a block; the range begins with the one and ends before the other.</summary>
        private static Row Block(long number) => SimRows.Of(number, "");

        private static bool Lies(long block, KeyRange range) =>
            (range.After.IsNone || block >= range.After.IntegerAt(0)) && (range.UpTo.IsNone || block < range.UpTo.IntegerAt(0));

        private bool IsWanted(TableName table, Row row, RowRange range)
        {
            var (since, block) = places[(table, row.IntegerAt(0))];
            return Lies(block, range.Keys) && (range.ChangedSince is not { } mark || (!state.HidesChanges && since.Place + 2 > ulong.Parse(mark, System.Globalization.CultureInfo.InvariantCulture)));
        }

        public async IAsyncEnumerable<RowBlock> ReadAsync(TableSchema table, RowRange range, IReadOnlySet<string> taken, [EnumeratorCancellation] CancellationToken cancellation)
        {
            var chosen = rows[table.Name].Where(row => IsWanted(table.Name, row, range));
            foreach (var group in chosen.Chunk(3))
            {
                await faults.BeforeAsync("snapshot.read", cancellation);
                var bytes = new ArrayBufferWriter<byte>();
                foreach (var row in group)
                {
                    ChangeWriter.Write(bytes, new RowChange(ChangeKind.Insert, 0, default, row));
                }

                yield return new RowBlock(bytes.WrittenMemory, group.Length);
            }
        }

        public ValueTask DisposeAsync() => ValueTask.CompletedTask;
    }
}
