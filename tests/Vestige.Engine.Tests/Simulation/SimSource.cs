using System.Buffers;
using System.Runtime.CompilerServices;
using Vestige.Core.Changes;
using Vestige.Core.Loading;
using Vestige.Core.Positions;
using Vestige.Core.Readiness;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
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
    private Dictionary<LogPosition, ulong> hashes = new() { [LogPosition.Zero] = 0 };
    private readonly Dictionary<TableName, List<(LogPosition At, ulong Hash)>> tableHashes = SimRows.All.ToDictionary(
        table => table.Name,
        _ => new List<(LogPosition, ulong)> { (LogPosition.Zero, 0) }
    );
    private ulong hash;

    public sealed record Entry(LogPosition Position, DateTimeOffset CommittedAt, IReadOnlyList<RowChange> Changes);

    public List<Entry> Log { get; private set; } = [];

    /// <summary>All that was ever committed, whatever of it the log still has.</summary>
    public List<Entry> History { get; private set; } = [];

    /// <summary>The logs that it has had.</summary>
    public SimMoves Moves { get; } = new();

    /// <summary>Nobody commits any more.</summary>
    public bool IsClosed { get; set; }

    /// <summary>It is gone: no call to it works.</summary>
    public bool IsDead { get; set; }

    public LogPosition Head { get; private set; }

    public LogPosition Oldest { get; private set; }

    public AsyncSignal Committed { get; } = new();

    public Dictionary<TableName, SortedDictionary<long, Row>> Rows { get; private set; } =
        SimRows.All.ToDictionary(table => table.Name, _ => new SortedDictionary<long, Row>());

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

    /// <summary>Whether the states of each table are kept for comparison.</summary>
    public bool RemembersTables { get; set; }

    /// <summary>A broken source: a later snapshot does not give what changed in the ranges that were loaded before.</summary>
    public bool HidesChanges { get; init; }

    /// <summary>A broken source: a view shows the rows as they were before the last transaction that it claims to show.</summary>
    public bool ViewsLag { get; init; }

    /// <summary>A broken join: the old side is said to be closed and is written to.</summary>
    public bool JoinsLie { get; init; }

    /// <summary>The rows before the last transaction; kept only for <see cref="ViewsLag"/>.</summary>
    public Dictionary<TableName, IReadOnlyList<Row>> Earlier { get; private set; } = [];

    /// <summary>What happens to rows on the way to the target whose states are told.</summary>
    public SimTreatment Treatment { get; set; } = SimTreatment.None;

    /// <summary>The state that the target has to have as of a position.</summary>
    public ulong HashAt(LogPosition position) => hashes[position];

    public bool Knows(LogPosition position) => hashes.ContainsKey(position);

    public Dictionary<TableName, IReadOnlyList<Row>> Shown() =>
        Rows.ToDictionary(pair => pair.Key, IReadOnlyList<Row> (pair) => [.. pair.Value.Values]);

    /// <summary>The hash of one table's rows as of a position.</summary>
    public ulong HashAt(TableName table, LogPosition position) => tableHashes[table].FindLast(known => known.At <= position).Hash;

    /// <summary>Changes a table beside the log.</summary>
    public void Restructure(TableName table, int kind)
    {
        Head = Head.At(Head.Offset + 1);
        var rows = Restructuring.Make(table, kind, Head, [.. Rows[table].Values]).ToList();
        Rows[table].Clear();
        foreach (var row in rows)
        {
            Rows[table].Add(row.IntegerAt(0), row);
            Places.TryAdd((table, row.IntegerAt(0)), (Head, row.IntegerAt(0) % Blocks));
        }

        Remember();
    }

    /// <summary>The connector looks at all tables, and what it finds has a place of its own in the log.</summary>
    public void Look(DateTimeOffset at)
    {
        var found = Restructuring.Look(SimRows.All.Select(table => table.Name), Head.At(Head.Offset + 2)).ToList();
        if (found.Count > 0)
        {
            Head = Head.At(Head.Offset + 2);
            Log.Add(new Entry(Head, at, found));
            Remember();
            Committed.Beat();
        }
    }

    private void Remember()
    {
        foreach (var (table, rows) in Rows.Where(_ => Restructuring.Happens || RemembersTables))
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

        Head = Head.At(Head.Offset + 1 + (ulong)changes.Count);
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

    /// <summary>Another server has all transactions of the log, at other offsets, and knows which was which.</summary>
    public void Renumber(ulong shift)
    {
        LogPosition Moved(LogPosition at) => at.Branch == Moves.Branch ? new LogPosition(at.Branch + 1, at.Offset + shift) : at;
        hashes = hashes.ToDictionary(pair => Moved(pair.Key), pair => pair.Value);
        foreach (var known in tableHashes.Values)
        {
            known.AddRange(known.ConvertAll(one => (Moved(one.At), one.Hash)));
        }

        (Log, History) = (
            Log.ConvertAll(entry => entry with { Position = Moved(entry.Position) }),
            History.ConvertAll(entry => entry with { Position = Moved(entry.Position) })
        );
        (Head, Oldest) = (Moved(Head), Moved(Oldest));
        Moves.Renumber(shift);
        ForgetNotes();
    }

    /// <summary>
    /// Another log begins with the state that is here as of the end of the present one; what was committed after it is lost.
    /// </summary>
    public void JoinAt(ulong end, ulong begin)
    {
        var last = Head.At(end);
        if (!JoinsLie && History.Exists(entry => entry.Position > last))
        {
            History.RemoveAll(entry => entry.Position > last);
            (hash, Rows) = (0, SimRows.All.ToDictionary(table => table.Name, _ => new SortedDictionary<long, Row>()));
            History.SelectMany(entry => entry.Changes).ToList().ForEach(Take);
        }

        Log.Clear();
        Moves.End();
        Head = Oldest = new LogPosition(Moves.Branch, begin);
        hashes[Head] = hash;
        Remember();
        ForgetNotes();
        (IsClosed, IsDead) = (false, false);
    }

    /// <summary>
    /// A reader's notes are durable when it is told to confirm, and never before what was read with them. A crash in between
    /// may leave the fragments without their note, and then the next reader continues from the note before.
    /// </summary>
    public void ExpectNotes(LogRequest request)
    {
        Noted = request.Notes.TryGetValue("given", out var text)
            ? new LogPosition(ulong.Parse(text, System.Globalization.CultureInfo.InvariantCulture))
            : LogPosition.Zero;
        Assert.True(Noted.Offset <= request.After.Offset, $"A note of {Noted} is there, and the spool ends at {request.After}.");
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
            var next = Head.At(Head.Offset + 1);
            Places[(table, key)] = (next, (long)((ulong)(key * 7) + (next.Offset * 5)) % Blocks);
        }
    }
}

/// <summary>The source as one process reaches it.</summary>
public sealed class SimSource(SimSourceState state, SimFaults faults, SimWorld world)
    : IProbe,
        ICatalogue,
        IRowLookup,
        ILogSource,
        IRowSource,
        ISourceViews
{
    private ILogReader? mine;

    public async Task<SourceHead> SampleAsync(LogPosition captured, CancellationToken cancellation)
    {
        await faults.BeforeAsync("source.sample", cancellation);
        ThrowIfDead();
        var first = state.Log.Find(entry => entry.Position.Offset > captured.Offset)?.CommittedAt;
        return new SourceHead(
            state.Moves.Identity,
            state.Head.On(captured.Branch),
            state.Oldest.On(captured.Branch),
            0,
            null,
            first,
            world.Now
        );
    }

    public string Engine => "sim";

    public IEngineTypes Types => PlainTypes.Instance;

    public Task<string> GetIdentityAsync(CancellationToken cancellation) => Task.FromResult("source");

    public Task<bool> IsSameAsync(IProbe other, CancellationToken cancellation) => Task.FromResult(false);

    public async Task<LogStart> BeginLogAsync(CancellationToken cancellation)
    {
        await faults.BeforeAsync("source.begin", cancellation);
        ThrowIfDead();
        faults.After("source.begin");
        state.ForgetNotes();
        return new LogStart(state.Head.On(0));
    }

    public Task EndLogAsync(CancellationToken cancellation) => Task.CompletedTask;

    public async Task<LogContinuity> ContinueAsync(ResumeToken token, CancellationToken cancellation)
    {
        await faults.BeforeAsync("source.continue", cancellation);
        ThrowIfDead();
        return state.Moves.Continue(token);
    }

    public async Task<ILogReader> OpenLogAsync(LogRequest request, CancellationToken cancellation)
    {
        await faults.BeforeAsync("source.open", cancellation);
        ThrowIfDead();
        if (request.Log != state.Moves.Identity)
        {
            world.Count("source.open", "of another log");
            throw new PortException($"The source is now {state.Moves.Identity}.") { Transient = true };
        }

        state.ExpectNotes(request);
        var reader = new Reader(state, faults, world, request.After, request.Tables);
        state.Reading = mine = reader;
        return reader;
    }

    public Task EnsureReadAsync(IReadOnlyList<TableName> tables, CancellationToken cancellation) => Task.CompletedTask;

    public async Task ConfirmAsync(LogPosition position, CancellationToken cancellation)
    {
        await faults.BeforeAsync("source.confirm", cancellation);
        ThrowIfDead();
        if (mine is not Reader { IsOfPresentLog: true })
        {
            throw new PortException("The connection to the source has ended.") { Transient = true };
        }

        state.Confirm(state.Head.At(position.Offset));
        if (mine is not null && state.Reading == mine)
        {
            state.HaveNotes();
        }

        faults.After("source.confirm");
    }

    public async Task<ISourceSnapshot> OpenSnapshotAsync(int readers, int branch, CancellationToken cancellation)
    {
        await faults.BeforeAsync("source.snapshot", cancellation);
        ThrowIfDead();
        return new Snapshot(state, faults, world, branch);
    }

    public async Task<IRowsView> OpenViewAsync(int branch, CancellationToken cancellation)
    {
        await faults.BeforeAsync("source.view", cancellation);
        ThrowIfDead();
        return new SimView(
            state.Head.On(branch),
            TargetProgress.None,
            state.ViewsLag ? state.Earlier : state.Shown(),
            faults,
            state.Restructuring.Tables
        );
    }

    public Task<IReadOnlyList<ReadinessCheck>> CheckSourceAsync(IReadOnlyList<TableName> tables, CancellationToken cancellation) =>
        Task.FromResult<IReadOnlyList<ReadinessCheck>>([]);

    public string Footprint => "";

    public string Format(LogPosition position) => position.On(0).ToString();

    public LogPosition? Parse(string text, int branch) => ulong.TryParse(text, out var offset) ? new LogPosition(branch, offset) : null;

    public long Distance(LogPosition from, LogPosition to) => (long)(to.Offset - from.Offset);

    public Task<IReadOnlyList<TableDescription>> ReadTablesAsync(CancellationToken cancellation) =>
        Task.FromResult<IReadOnlyList<TableDescription>>([
            .. state.Restructuring.Tables.Select(table => new TableDescription(table, state.Rows[table.Name].Count, null, null)),
        ]);

    public Task<long> CountAsync(TableName table, SharedRows? only, CancellationToken cancellation) =>
        Task.FromResult((long)state.Rows[table].Count);

    public Task<Row?> FindAsync(TableSchema table, IReadOnlyList<string> key, CancellationToken cancellation) =>
        Task.FromResult<Row?>(null);

    public Task<IReadOnlyList<Row>> SampleRowsAsync(TableSchema table, int rows, CancellationToken cancellation) =>
        Task.FromResult<IReadOnlyList<Row>>([]);

    public Task<IReadOnlyList<ReadinessCheck>> TestAsync(CancellationToken cancellation) =>
        Task.FromResult<IReadOnlyList<ReadinessCheck>>([]);

    private void ThrowIfDead()
    {
        if (state.IsDead)
        {
            throw new PortException("The source is gone.") { Transient = true };
        }
    }

    private sealed class Reader(SimSourceState state, SimFaults faults, SimWorld world, LogPosition after, IReadOnlySet<TableName> tables)
        : ILogReader
    {
        private readonly HashSet<int> told = [];
        private readonly Queue<LogFragment> parts = new();
        private readonly List<ToldVersion> versions = [];
        private readonly LogIdentity identity = state.Moves.Identity;
        private LogPosition cursor = state.Head.At(after.Offset);
        private LogPosition passed = state.Head.At(after.Offset);

        public bool IsOfPresentLog => identity == state.Moves.Identity && !state.IsDead;

        public async ValueTask<LogRead> ReadAsync(TimeSpan wait, CancellationToken cancellation)
        {
            await faults.BeforeAsync("log.read", cancellation);
            ThrowIfEnded();
            if (cursor < state.Oldest && parts.Count == 0)
            {
                throw new PlaceLostException($"The log begins at {state.Oldest}, the reader stands at {cursor}.");
            }

            if (parts.Count == 0 && state.Log.TrueForAll(entry => entry.Position <= cursor))
            {
                var committed = state.Committed.Next;
                await Task.WhenAny(committed, Task.Delay(wait, world.ClockOf(faults), cancellation));
                cancellation.ThrowIfCancellationRequested();
                ThrowIfEnded();
            }

            return Next();
        }

        private void ThrowIfEnded()
        {
            if (!IsOfPresentLog)
            {
                throw new PortException("The connection to the source has ended.") { Transient = true };
            }
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

            return new LogRead(
                fragments.ConvertAll(fragment => fragment with { Position = fragment.Position.On(after.Branch) }),
                relations,
                passed.On(after.Branch),
                parts.Count == 0 && cursor >= state.Head
            )
            {
                Notes = Noted(fragments),
                Versions = TakeVersions(),
            };
        }

        private List<ToldVersion> TakeVersions()
        {
            List<ToldVersion> taken = [.. versions];
            versions.Clear();
            return taken;
        }

        private Dictionary<string, string> Noted(List<LogFragment> fragments)
        {
            if (fragments.Count == 0 || !fragments[^1].Last)
            {
                return [];
            }

            if (state.Reading == this)
            {
                state.Noted = fragments[^1].Position.On(0);
            }

            return new Dictionary<string, string> { ["given"] = $"{fragments[^1].Position.Offset}" };
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

            versions.AddRange(
                chosen
                    .Where(change => change.Kind == ChangeKind.Schema)
                    .Select(change =>
                    {
                        var form = state.Restructuring.Relations[change.Relation];
                        var at = entry.Position.On(after.Branch);
                        return new ToldVersion(form.Name, at, VersionCertainty.Derived, form, SchemaNotice.Of(change).What);
                    })
            );
            var size = entry.Changes.Count > 12 ? 4 : int.MaxValue;
            var groups = chosen.Chunk(Math.Min(size, chosen.Count)).ToList();
            for (var i = 0; i < groups.Count; i++)
            {
                var bytes = new ArrayBufferWriter<byte>();
                foreach (var change in groups[i])
                {
                    ChangeWriter.Write(bytes, change);
                }

                parts.Enqueue(
                    new LogFragment(entry.Position, entry.CommittedAt, i == 0, i == groups.Count - 1, groups[i].Length, bytes.WrittenMemory)
                );
            }
        }
    }

    private sealed class Snapshot(SimSourceState state, SimFaults faults, SimWorld world, int branch) : ISourceSnapshot
    {
        private readonly IReadOnlyList<TableSchema> forms = state.Restructuring.Tables;
        private readonly Dictionary<TableName, List<Row>> rows = state.Rows.ToDictionary(
            pair => pair.Key,
            pair => pair.Value.Values.ToList()
        );
        private readonly Dictionary<(TableName Table, long Key), (LogPosition Since, long Block)> places = new(state.Places);

        public LogPosition Position { get; } = state.Head.On(branch);

        public DateTimeOffset TakenAt { get; } = world.Now;

        public Task<IReadOnlyList<TableDescription>> ReadTablesAsync(CancellationToken cancellation) =>
            Task.FromResult<IReadOnlyList<TableDescription>>([
                .. forms.Select(table => new TableDescription(table, rows[table.Name].Count, null, null)),
            ]);

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
            return world.Seed % 3 == 0 ? null : $"{Position.Offset}";
        }

        public async Task<IReadOnlyList<RowRange>?> CutRestAsync(
            TableSchema table,
            LoadCheckpoint part,
            int chunks,
            CancellationToken cancellation
        )
        {
            await faults.BeforeAsync("snapshot.rest", cancellation);
            if (state.Restructuring.HappenedSince(table.Name, state.Head.At(part.Since.Offset)))
            {
                return null;
            }

            world.Count("snapshot.rest", "gone on");
            var ranges = part.Done.Select(done => new RowRange(done, part.Mark)).ToList();
            for (var block = 0L; block < SimSourceState.Blocks; block++)
            {
                if (!part.Done.Any(done => Lies(block, done)))
                {
                    ranges.Add(
                        new RowRange(
                            new KeyRange(
                                block == 0 ? default : Block(block),
                                block == SimSourceState.Blocks - 1 ? default : Block(block + 1)
                            )
                        )
                    );
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
            return Lies(block, range.Keys)
                && (
                    range.ChangedSince is not { } mark
                    || (!state.HidesChanges && since.Offset + 2 > ulong.Parse(mark, System.Globalization.CultureInfo.InvariantCulture))
                );
        }

        public async IAsyncEnumerable<RowBlock> ReadAsync(
            TableSchema table,
            RowRange range,
            IReadOnlySet<string> taken,
            [EnumeratorCancellation] CancellationToken cancellation
        )
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
