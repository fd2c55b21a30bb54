using Microsoft.Extensions.Logging.Abstractions;
using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Joining;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Quarantining;
using Vestige.Engine.Reconciling;
using Vestige.Engine.Spooling;
using Vestige.Engine.Tests.Doubles;
using Vestige.Tests.Shared.Reconciling;

namespace Vestige.Engine.Tests.Simulation;

/// <summary>
/// A world in which one crossing runs while its source is worked on, calls fail, commits arrive late, processes are killed
/// and the disk forgets. Everything that happens follows from the seed. At the end faults cease, and what must hold is checked.
/// </summary>
public sealed class SimWorld
{
    public const string Crossing = "sim-copy";
    private static readonly TimeSpan Settle = TimeSpan.FromMinutes(30);
    private readonly List<(DateTimeOffset At, Action Do)> later = [];
    private readonly Dictionary<SimFaults, SimClock> clocks = [];
    private readonly SortedDictionary<string, int> counts = new(StringComparer.Ordinal);
    private readonly SimStoreState store;
    private readonly List<(SimProcess Process, SimClock Clock, CrossingEngine Engine)> processes = [];
    private long nextKey = 1;
    private int idle;
    private readonly SimSink? sink;
    private readonly SimFileSource? files;
    private readonly bool refuses;
    private readonly bool damages;
    private readonly bool restructures;
    private readonly bool moves;
    private readonly bool removes;
    private readonly bool rewinds;
    private JoinPoint? joining;
    private bool isJoined;
    private CrossingEngine? askedOf;
    private bool hasLostTail;
    private readonly HashSet<(TableName Table, string Key)> damaged = [];
    private readonly MemoryReconciliations reconciliations;
    private Exception? failed;
    private SimFailure? broken;

    public SimWorld(
        int seed,
        SimDisk? disk = null,
        SimTargetState? target = null,
        SimSourceState? source = null,
        SimStoreState? store = null,
        SimSink? sink = null,
        SimFileSource? files = null
    )
    {
        (this.sink, this.files) = (sink, files);
        Seed = seed;
        Random = new Random(seed);
        Disk = disk ?? new SimDisk();
        Target = target ?? new SimTargetState();
        Source = source ?? new SimSourceState();
        this.store = store ?? new SimStoreState();
        restructures = Source.Restructuring.Happens;
        Source.Treatment = restructures || sink is not null || files is not null ? SimTreatment.None : SimTreatment.For(seed);
        Source.RemembersTables = sink is not null || ReferenceEquals(Source.Treatment, SimTreatment.None);
        refuses = seed % 3 == 0 && !Source.Treatment.KeepsVersions && !restructures && sink is null;
        moves = (seed % 5 < 2 || files is not null) && !restructures;
        removes = seed % 7 is 2 or 5 && !Source.Treatment.KeepsVersions && !restructures && sink is null && files is null;
        rewinds = seed % 4 == 3 && sink is null && files is null;
        damages = Source.Treatment.KeepsRows && !refuses && seed % 2 == 0 && !restructures && !removes && sink is null && files is null;
        reconciliations = new MemoryReconciliations { Saved = Compared };
    }

    /// <summary>A digest of everything that happened, for telling whether two runs were the same.</summary>
    public string Story =>
        string.Join(";", counts.Select(pair => $"{pair.Key}={pair.Value}")) + $";{Now:O};{PrefixesChecked};{Source.Head}";

    public int Seed { get; }

    /// <summary>In a third of the worlds whose tables change, those that are held are loaded again by themselves.</summary>
    private bool ReloadsHeld => restructures && Seed % 3 == 1;

    public Random Random { get; }

    public DateTimeOffset Now { get; private set; } = new(2026, 3, 1, 8, 0, 0, TimeSpan.Zero);

    public double FaultRate { get; private set; }

    public SimSourceState Source { get; }

    public SimDisk Disk { get; }

    public SimTargetState Target { get; }

    /// <summary>How often each kind of fault happened.</summary>
    public IReadOnlyDictionary<string, int> Faults => counts;

    /// <summary>How often the target was checked to hold a prefix of the source.</summary>
    public int PrefixesChecked { get; private set; }

    public void Count(string call, string when) => counts[$"{call} {when}"] = counts.GetValueOrDefault($"{call} {when}") + 1;

    public TimeProvider ClockOf(SimFaults faults) => clocks[faults];

    /// <summary>Something that happens in a while, whoever is dead by then.</summary>
    public void Later(Action what) => later.Add((Now + TimeSpan.FromMilliseconds(Random.Next(1, 5000)), what));

    /// <summary>
    /// Lets it load and follow, then start again over a target whose progress is of another log; returns why it is faulted.
    /// </summary>
    public string? FaultInAnotherLog()
    {
        var before = SynchronizationContext.Current;
        SynchronizationContext.SetSynchronizationContext(new SimProcess(this));
        try
        {
            Source.Committed.Beat();
            CommitAtSource();
            Boot(define: true);
            SettleDown();
            processes[^1].Process.Kill();
            Target.Progress = Target.Progress with { Identity = new Core.Positions.LogIdentity("another", 1) };
            Boot(define: true);
            for (var until = Now + TimeSpan.FromMinutes(5); Now < until && Engine.Status(Crossing)?.Fault is null;)
            {
                RunSome(50);
            }

            return Engine.Status(Crossing)?.Fault?.What;
        }
        finally
        {
            SynchronizationContext.SetSynchronizationContext(before);
        }
    }

    /// <summary>A call that fails whenever it is made; null for none.</summary>
    public string? Failing { get; private set; }

    /// <summary>Starts the crossing while one call always fails, and returns how often it was made in a time.</summary>
    public int TriesWhileFailing(string call, TimeSpan time)
    {
        var before = SynchronizationContext.Current;
        SynchronizationContext.SetSynchronizationContext(new SimProcess(this));
        try
        {
            Source.Committed.Beat();
            Failing = call;
            CommitAtSource();
            Boot(define: true);
            for (var until = Now + time; Now < until;)
            {
                RunSome(50);
            }

            return counts.GetValueOrDefault($"{call} before");
        }
        finally
        {
            SynchronizationContext.SetSynchronizationContext(before);
        }
    }

    /// <summary>Runs the whole story; throws <see cref="SimFailure"/> with the seed when a promise was broken.</summary>
    public void Run(int steps = 120)
    {
        var before = SynchronizationContext.Current;
        SynchronizationContext.SetSynchronizationContext(new SimProcess(this));
        try
        {
            // What waits for the first commit is woken within the simulation, too, not by the thread pool.
            Source.Committed.Beat();
            RunStory(steps);
        }
        finally
        {
            SynchronizationContext.SetSynchronizationContext(before);
        }
    }

    private void RunStory(int steps)
    {
        for (var i = Random.Next(12); i > 0; i--)
        {
            CommitAtSource();
        }

        Boot(define: true);
        FaultRate = Random.Next(4) switch
        {
            0 => 0,
            1 => 0.01,
            2 => 0.05,
            _ => 0.15,
        };
        for (var step = 0; step < steps; step++)
        {
            Act();
        }

        FaultRate = 0;
        Target.Refused.Clear();
        if (restructures)
        {
            SettleDown();
            Source.Look(Now);
        }

        SettleDown();
        if (restructures)
        {
            CheckHeld();
            LoadHeldAgain();
        }

        if (damaged.Count > 0)
        {
            MendAll();
        }

        CheckEnd();
        CheckVersions();
    }

    /// <summary>What the target knows, its positions as the source numbers them now.</summary>
    private TargetProgress Progress =>
        Target.Progress with
        {
            Position = Target.Progress.Position is { } position ? Numbered(position, Target.Progress.Identity) : null,
            Tables =
            [
                .. Target.Progress.Tables.Select(table =>
                    table with
                    {
                        Position = Numbered(table.Position, table.Log ?? Target.Progress.Identity),
                        Reached = table.Reached is { } reached ? Numbered(reached, table.Log ?? Target.Progress.Identity) : null,
                        AgreedUpTo = table.AgreedUpTo is { } agreed ? Numbered(agreed, table.Log ?? Target.Progress.Identity) : null,
                    }
                ),
            ],
        };

    /// <summary>
    /// A target may pass a join before the source has become the other system: it holds then what it held at the end of the log before.
    /// </summary>
    private LogPosition Numbered(LogPosition position, LogIdentity? identity) =>
        files is not null && identity is not null ? files.InWorld(position, identity)
        : Source.Moves.Now(position, identity) is var now && now.Branch > Source.Moves.Branch ? Source.Head.At(joining!.End)
        : now;

    /// <summary>The rules that are stored; a process that others think dead may know other ones.</summary>
    private TableRules? Rules => store.Crossings.GetValueOrDefault(Crossing)?.Definition.Tables;

    /// <summary>Whether a table has left the crossing.</summary>
    private bool IsRemoved => removes && Rules?.Takes(SimRows.Second.Name) == false;

    /// <summary>Called at each commit of the target: while following, it must hold exactly a prefix of the source's history.</summary>
    public void Committed()
    {
        var progress = Progress;
        if (
            store.Waiting.Count > 0
            || progress.Position is not { } position
            || (!restructures && progress.Tables.Any(table => table.Held || table.Position > position))
        )
        {
            return;
        }

        if (!restructures && (IsRemoved || progress.Tables.Any(table => !table.IsInStream)))
        {
            CheckApart(progress, position);
            return;
        }

        PrefixesChecked++;
        if (restructures)
        {
            CheckTables(position);
            return;
        }

        if (Source.Treatment.KeepsVersions)
        {
            var versions = SimVersions.At(Source.History, progress.Tables, position);
            var lacking = versions
                .Where(version => !Target.Rows.TryGetValue(version.Key, out var there) || there != version.Value)
                .Select(version => $"{version.Key}: {Shown(version.Value)}")
                .ToList();
            if (versions.Count != Target.Rows.Count || lacking.Count > 0)
            {
                broken ??= Failure(
                    $"at position {position} the target has {Target.Rows.Count} versions, and {versions.Count} should be there; "
                        + $"missing or other there: {string.Join("; ", lacking)}"
                );
            }

            return;
        }

        if (damages)
        {
            CheckUndamaged(position);
            return;
        }

        var hash = Target.Rows.Aggregate(0UL, (sum, pair) => sum + SimRows.Hash(pair.Key.Table, pair.Value));
        if (!Source.Knows(position) || hash != Source.HashAt(position))
        {
            broken ??= Failure($"at position {position} the target holds a state that the source never had");
        }
    }

    /// <summary>
    /// Called at each step of a target without transactions: each loaded table is as the source had it at the table's position.
    /// </summary>
    public void CommittedByTable()
    {
        var tables = Progress.Tables.Where(table => table is { Loaded: true, Held: false }).ToList();
        PrefixesChecked += tables.Count;
        foreach (var table in tables)
        {
            var hash = Target
                .Rows.Where(pair => pair.Key.Table == table.Table)
                .Aggregate(0UL, (sum, pair) => sum + SimRows.Hash(pair.Key.Table, pair.Value));
            if (hash != Source.HashAt(table.Table, table.Position))
            {
                Break($"{table.Table} holds at {table.Position} rows that the source never had");
            }
        }
    }

    /// <summary>A promise was broken. The first one is reported.</summary>
    public void Break(string what) => broken ??= Failure(what);

    /// <summary>Every table that is neither held nor loading is as the source has it, once anybody can know what was done to it.</summary>
    private void CheckTables(Core.Positions.LogPosition position)
    {
        foreach (
            var table in Progress.Tables.Where(table =>
                table is { Loaded: true, Held: false }
                && table.Position <= (table.Reached ?? position)
                && !Source.Restructuring.IsUnseen(
                    table.Table,
                    table.AgreedUpTo is null ? table.Position : Core.Positions.LogPosition.Zero,
                    table.Reached ?? position
                )
            )
        )
        {
            if (HashOf(table.Table) != Source.HashAt(table.Table, table.Reached ?? position))
            {
                broken ??= Failure(
                    $"at position {position} {table.Table}, loaded at {table.Position}, is not as at the source, and is not held; "
                        + $"{Source.Restructuring.Describe(table.Table)}"
                );
            }
        }
    }

    private ulong HashOf(TableName table) =>
        Target
            .Rows.Where(pair => pair.Key.Table == table)
            .Aggregate(0UL, (sum, pair) => sum + SimRows.Hash(pair.Key.Table, pair.Value));

    /// <summary>
    /// While a table is loaded beside the others: those are as the source had them at the position, and one that has yet to catch up is
    /// as it was where it stands.
    /// </summary>
    private void CheckApart(TargetProgress progress, LogPosition position)
    {
        if (damages || !ReferenceEquals(Source.Treatment, SimTreatment.None))
        {
            return;
        }

        foreach (var table in progress.Tables.Where(table => table.Loaded && Rules?.Takes(table.Table) != false))
        {
            Count("table", table.IsInStream ? "follows beside a load" : "catches up");
            var at = table.Reached ?? position;
            if (HashOf(table.Table) != Source.HashAt(table.Table, at))
            {
                broken ??= Failure(
                    $"{table.Table} is not as the source had it at {at}, {(table.IsInStream ? "in" : "apart from")} the stream"
                );
            }
        }
    }

    /// <summary>A held table keeps the rows that the source had before it was changed.</summary>
    private void CheckHeld()
    {
        foreach (var table in Progress.Tables.Where(table => table.Held))
        {
            Count("table", "held");
            if (
                table.Reached is { } reached
                && !Source.Restructuring.IsUnseen(table.Table, Core.Positions.LogPosition.Zero, reached)
                && HashOf(table.Table) != Source.HashAt(table.Table, reached)
            )
            {
                throw Failure($"{table.Table} is held as of {reached}, and was not like that there");
            }

            if (
                !Source.Restructuring.WereBefore(
                    table.Table,
                    [.. Target.Rows.Where(pair => pair.Key.Table == table.Table).Select(pair => pair.Value)]
                )
            )
            {
                throw Failure($"{table.Table} is held with rows that the source did not have before any of its changes");
            }
        }
    }

    private void LoadHeldAgain()
    {
        var (engine, until) = (Engine, Now + Settle);
        while (Target.Progress.Tables.Where(table => table.Held).Select(table => table.Table).ToList() is { Count: > 0 } held)
        {
            if (Now > until)
            {
                throw Failure($"held tables cannot be loaded again: {string.Join(", ", held)}. {failed}");
            }

            processes[^1].Process.Post(_ => _ = AskAsync(() => engine.ReloadAsync(Crossing, held, "sim", CancellationToken.None)), null);
            RunSome(400);
            SettleDown();
        }
    }

    /// <summary>Rows that nobody damaged, or that were repaired since, are as the source had them at the position.</summary>
    private void CheckUndamaged(Core.Positions.LogPosition position)
    {
        var expected = new Dictionary<(TableName Table, string Key), Row>();
        foreach (var change in Source.History.Where(entry => entry.Position <= position).SelectMany(entry => entry.Changes))
        {
            var table = SimRows.All[change.Relation].Name;
            if (change.Kind == ChangeKind.Truncate)
            {
                expected.Keys.Where(key => key.Table == table).ToList().ForEach(key => expected.Remove(key));
            }

            if (!change.Before.IsNone)
            {
                expected.Remove((table, $"{change.Before.IntegerAt(0)}"));
            }

            if (!change.After.IsNone)
            {
                expected[(table, $"{change.After.IntegerAt(0)}")] = Kept(change.After);
            }
        }

        var wrong = expected
            .Keys.Where(key => key.Table != SimRows.Other.Name)
            .Union(Target.Rows.Keys)
            .Where(key => !damaged.Contains(key) && Target.Rows.GetValueOrDefault(key) != expected.GetValueOrDefault(key))
            .ToList();
        if (wrong.Count > 0)
        {
            broken ??= Failure(
                $"at position {position} rows that nobody damaged, or that were repaired, are not as at the source: "
                    + $"{string.Join(", ", wrong)}"
            );
        }
    }

    /// <summary>Nothing in flight is taken for a difference.</summary>
    private void Compared(Reconciliation found)
    {
        Count(
            "comparison",
            found.State == ReconciliationState.Done && found.Tables.Any(table => table.IsEqual) ? "proved equal" : found.State.ToString()
        );
        Count("rows in flight", found.Tables.Any(table => table.InFlight > 0) ? "compared" : "none");
        var wrong = found
            .Tables.SelectMany(table =>
                table.Rows.Select(row =>
                    (table.Into, Key: string.Join(", ", Enumerable.Range(0, row.Key.Count).Select(row.Key.DisplayAt)), row.Kind)
                )
            )
            .Where(row => !damaged.Contains((row.Into, row.Key)))
            .ToList();
        if (found.Tables.FirstOrDefault(table => table.Reason?.Contains("digests", StringComparison.Ordinal) == true) is { } table)
        {
            broken ??= Failure($"{table.Into}: {table.Reason}");
        }

        if (wrong.Count > 0 && !refuses && !restructures)
        {
            broken ??= Failure($"these rows do not differ: {string.Join(", ", wrong)}");
        }
    }

    private void Compare()
    {
        var (engine, from) = (Engine, Random.NextInt64(1, nextKey + 1));
        var scope = Random.Next(4) switch
        {
            0 => ComparisonScope.All with { Changed = true },
            1 => new ComparisonScope([SimRows.All[Random.Next(2)].Name], From: $"{from}", Before: $"{from + Random.Next(1, 12)}"),
            _ => ComparisonScope.All,
        };
        Count("comparison of", scope.Words.Split(' ')[0]);
        processes[^1]
            .Process.Post(_ => _ = AskAsync(() => engine.Reconcile.StartAsync(Crossing, scope, "sim", CancellationToken.None)), null);
    }

    private void Restructure()
    {
        if (Random.Next(3) == 0)
        {
            Source.Look(Now);
            return;
        }

        if (Target.Progress.Tables.Where(table => table is { Held: true, Reached: not null }).ToList() is { Count: > 0 } held)
        {
            var (engine, table) = (Engine, held[Random.Next(held.Count)].Table);
            processes[^1]
                .Process.Post(_ => _ = AskAsync(() => engine.Held.AgreeAsync(Crossing, [table], "sim", CancellationToken.None)), null);
            Count("table", "agreed to");
            return;
        }

        Count("table", "restructured");
        Source.Restructure(SimRows.All[Random.Next(SimRows.All.Count)].Name, Random.Next(SimRestructuring.Kinds));
    }

    /// <summary>Someone else writes on the target; or what the last comparison found is repaired.</summary>
    private void DamageOrRepair()
    {
        if (Random.Next(2) == 0 || damaged.Count == 0)
        {
            var table = SimRows.All[Random.Next(2)].Name;
            var key = Random.NextInt64(1, nextKey + 1);
            damaged.Add((table, $"{key}"));
            if (Random.Next(3) == 0)
            {
                Target.Rows.Remove((table, $"{key}"));
            }
            else
            {
                Target.Rows[(table, $"{key}")] = Kept(SimRows.Of(key, "damaged"));
            }

            Count("row", "damaged");
            return;
        }

        var engine = Engine;
        processes[^1].Process.Post(_ => _ = AskAsync(() => RepairAsync(engine)), null);
    }

    /// <summary>A row of the source as the target has it.</summary>
    private Row Kept(Row row) => Source.Treatment.CrossesEngines ? SimRows.AsTexts(row) : row;

    private async Task RepairAsync(CrossingEngine engine)
    {
        if (
            await reconciliations.ListAsync(Crossing, 1, CancellationToken.None)
            is [{ Differences: > 0, State: ReconciliationState.Done } found]
        )
        {
            var repair = await engine.Reconcile.Repairs.RepairAsync(Crossing, found, null, delete: true, "sim", CancellationToken.None);
            Count("rows", "repaired");
            damaged.ExceptWith(repair.Rows.Select(row => (row.Into, row.Key.DisplayAt(0))));
        }
    }

    private async Task AskAsync(Func<Task> ask)
    {
        try
        {
            await ask();
        }
        catch (Exception exception) when (exception is PortException or RequestRefusedException or IOException)
        {
            // Told to whoever asked.
            failed = exception;
        }
    }

    private CrossingEngine Engine => processes[^1].Engine;

    private void Act()
    {
        switch (Random.Next(20))
        {
            case < 7:
                CommitAtSource();
                break;
            case 12 when restructures:
                Restructure();
                break;
            case 14 when refuses:
                RefuseOrDecide();
                break;
            case 14 when damages:
                DamageOrRepair();
                break;
            case 11 when moves:
                Move();
                break;
            case 13:
                Compare();
                break;
            case < 15:
                RunSome(Random.Next(1, 60));
                break;
            case 15:
                Steer();
                break;
            case 16 or 17:
                Advance();
                break;
            case 18:
                KillAndBoot();
                break;
            default:
                ReplaceWithoutKilling();
                break;
        }
    }

    /// <summary>
    /// The source becomes another system: at the same state, told by the new log itself, proved, or derived after the old one was lost.
    /// </summary>
    private void Move()
    {
        if (files is not null)
        {
            Count("source", "another server");
            files.Promote();
            return;
        }

        if (joining is not null)
        {
            Join();
            return;
        }

        switch (Random.Next(3))
        {
            case 0:
                Count("source", "renumbered");
                Source.Renumber((ulong)Random.Next(1, 500));
                break;
            case 1:
                Source.IsClosed = !Source.JoinsLie;
                joining = Joining(Source.Head.Offset, Beginning(), JoinKind.Proved);
                break;
            case 2 when Engine.Status(Crossing)?.Capture is { Running: true } capture:
                Source.IsClosed = Source.IsDead = true;
                joining = Joining(capture.Spooled.Offset, Beginning(), JoinKind.Derived);
                break;
        }
    }

    private JoinPoint Joining(ulong end, ulong begin, JoinKind kind)
    {
        (isJoined, askedOf) = (false, null);
        return Source.Moves.JoinAt(end, begin, kind);
    }

    private ulong Beginning() => 100_000 + (ulong)Random.Next(1, 1_000_000);

    /// <summary>Asks for the join again, whoever died meanwhile, until it is taken; then the source is the other system.</summary>
    private void Join()
    {
        var (engine, wanted, spooled) = (Engine, joining!, Engine.Status(Crossing)?.Capture?.Spooled);
        if (isJoined && spooled?.Offset == wanted.Begin)
        {
            Count("source", $"joined, {wanted.Evidence.Kind}");
            hasLostTail |= wanted.Evidence.Kind == JoinKind.Derived;
            Source.JoinAt(wanted.End, wanted.Begin);
            joining = null;
            return;
        }

        // One is asked at a time, so that a refusal means that it was not taken before.
        if (askedOf != engine)
        {
            askedOf = engine;
            processes[^1].Process.Post(_ => _ = JoinAsync(engine, wanted), null);
        }
    }

    private async Task JoinAsync(CrossingEngine engine, JoinPoint wanted)
    {
        try
        {
            await engine.Positions.JoinAsync("source", wanted, CancellationToken.None);
            isJoined |= joining == wanted;
            return;
        }
        catch (RequestRefusedException refusal) when (wanted.Evidence.Kind == JoinKind.Derived && joining == wanted && !isJoined)
        {
            Count("join", "refused");
            if (refusal.Message.Contains("reading ended", StringComparison.Ordinal) && engine.Status(Crossing)?.Capture?.Spooled is { } end)
            {
                joining = Joining(end.Offset, wanted.Begin, JoinKind.Derived);
            }
            else if (refusal.Message.Contains("the log that is read", StringComparison.Ordinal))
            {
                // The spool has not followed to the log that was lost; it comes back.
                Count("join", "given up");
                (joining, Source.IsClosed, Source.IsDead) = (null, false, false);
            }
        }
        catch (Exception exception) when (exception is PortException or RequestRefusedException or ObjectDisposedException)
        {
            Count("join", "failed");
        }

        askedOf = null;
    }

    private void Boot(bool define)
    {
        var process = new SimProcess(this);
        var clock = new SimClock(this, process);
        var faults = new SimFaults(this, process, clock);
        clocks[faults] = clock;
        Disk.Owner = process;
        var systems = new Systems(
            files?.Connect(faults, this) ?? new ConnectorOfPorts(new SimSource(Source, faults, this)),
            sink?.Connect(faults, this) ?? new ConnectorOfPorts(new SimTarget(Target, faults, this)),
            new SimSpoolFiles(Disk, faults, process, this),
            sink?.KeptBy(faults, this)
        );
        var engine = new CrossingEngine(
            systems,
            new EngineStores(new SimStore(store, faults), new SimQuarantine(store, Disk, faults, process))
            {
                Reconciliations = reconciliations,
                SchemaVersions = new SimSchemaVersions(store, faults),
                Rewinds = new SimRewinds(store, faults, this),
            },
            new EngineSecrets(new PlainCipher(), new PlainKeys()),
            new EngineOptions(new SpoolOptions(FileBytes: 2000, RecordBytes: 300, SpanBytes: 1000)),
            clock,
            new Random(Random.Next()),
            NullLogger.Instance
        );
        processes.Add((process, clock, engine));
        process.Post(_ => _ = StartAsync(engine, define), null);
    }

    private async Task StartAsync(CrossingEngine engine, bool define)
    {
        for (var tries = 0; ; tries++)
        {
            try
            {
                if (!engine.Started)
                {
                    await engine.StartAsync(CancellationToken.None);
                }

                if (define && engine.Status(Crossing) is null)
                {
                    var rules = new TableRules([new TableRule(Take: "sim.*"), new TableRule(Leave: "sim.other")]);
                    await engine.DefineAsync(
                        Source.Treatment.Define(
                            new CrossingDefinition(
                                Crossing,
                                CrossingDefinition.Copy,
                                "source",
                                "target",
                                rules,
                                Quarantine: refuses ? new QuarantineRule(Rows: 1000) : null,
                                SchemaChanges:
                                [
                                    .. ReloadsHeld
                                        ? [new SchemaChangeRule("*", SchemaChangeAction.Reload)]
                                        : Array.Empty<SchemaChangeRule>(),
                                    .. Seed % 4 == 1 && !ReloadsHeld
                                        ? [new SchemaChangeRule("*", SchemaChangeAction.Hold)]
                                        : Array.Empty<SchemaChangeRule>(),
                                    .. Seed % 3 == 0
                                        ? [new SchemaChangeRule("*", SchemaChangeAction.Carry, [SchemaChangeKind.ColumnDropped])]
                                        : Array.Empty<SchemaChangeRule>(),
                                ]
                            )
                        ),
                        "sim",
                        CancellationToken.None
                    );
                }

                if (define && store.Crossings[Crossing].Desired == DesiredState.Draft)
                {
                    await engine.RunAsync(Crossing, "sim", CancellationToken.None);
                }

                return;
            }
            catch (PortException) when (tries < 100)
            {
                // A person, or the host, would try again.
            }
            catch (Exception exception)
            {
                failed = exception;
                throw;
            }
        }
    }

    private void KillAndBoot()
    {
        processes[^1].Process.Kill();
        Disk.Crash(Random);
        Count("process", "killed");
        Boot(define: true);
    }

    /// <summary>The old process is thought dead, has lost the data folder, and continues writing to the target.</summary>
    private void ReplaceWithoutKilling()
    {
        Disk.Crash(Random);
        Count("process", "thought dead");
        Boot(define: true);
    }

    /// <summary>The target refuses another row, or takes all again, or a person has what waits tried again.</summary>
    private void RefuseOrDecide()
    {
        var rows = Source.Rows.SelectMany(pair => pair.Value.Values.SelectMany(row => Source.Treatment.Crosses(pair.Key, row))).ToList();
        switch (Random.Next(5))
        {
            case 0:
                Target.Refused.Clear();
                break;
            case 1:
                Decide();
                break;
            default:
                if (rows.Count > 0)
                {
                    var (table, key, _) = rows[Random.Next(rows.Count)];
                    Target.Refused.Add((table, key));
                }

                break;
        }
    }

    private void Decide()
    {
        var (engine, some) = (Engine, Random.Next(1, 4));
        processes[^1].Process.Post(_ => _ = DecideAsync(engine, some), null);
    }

    private static async Task DecideAsync(CrossingEngine engine, int some)
    {
        try
        {
            var refused = engine
                .Quarantine.Waiting(Crossing)
                ?.Where(change => change.State != WaitingState.Behind)
                .Select(change => change.Id)
                .Where((_, i) => i % some == 0)
                .ToList();
            if (refused is { Count: > 0 })
            {
                await engine.Quarantine.RetryAsync(Crossing, refused, "sim", CancellationToken.None);
            }
        }
        catch (Exception exception) when (exception is PortException or RequestRefusedException)
        {
            // Told to whoever asked.
        }
    }

    /// <summary>While changes are applied again, rows are written whatever the target has of them.</summary>
    public bool IsRewinding =>
        rewinds && processes.Exists(one => one.Engine.Status(Crossing) is not null && one.Engine.Rewinds.PendingOf(Crossing) is not null);

    private void Steer()
    {
        var engine = Engine;
        if (rewinds && Source.History.Count > 0 && Random.Next(3) > 0)
        {
            var from = Source.History[^(1 + Random.Next(Math.Min(8, Source.History.Count)))].Position;
            processes[^1].Process.Post(_ => _ = AskAsync(() => RewindAsync(engine, from)), null);
            return;
        }

        var dice = Random.Next(removes ? 10 : 6);
        processes[^1].Process.Post(_ => _ = SteerAsync(engine, dice), null);
    }

    private async Task SteerAsync(CrossingEngine engine, int dice)
    {
        try
        {
            await (
                dice switch
                {
                    0 => engine.PauseAsync(Crossing, "sim", CancellationToken.None),
                    1 => engine.StopAsync(Crossing, StopMode.Drain, "sim", CancellationToken.None),
                    2 => engine.StopAsync(Crossing, StopMode.Now, "sim", CancellationToken.None),
                    3 => engine.ReloadAsync(Crossing, [SimRows.First.Name], "sim", CancellationToken.None),
                    4 => engine.ReloadAsync(Crossing, [SimRows.Second.Name], "sim", CancellationToken.None),
                    6 or 7 => RemoveAsync(engine),
                    8 or 9 => AddAsync(engine),
                    _ => engine.RunAsync(Crossing, "sim", CancellationToken.None),
                }
            );
        }
        catch (Exception exception) when (exception is PortException or RequestRefusedException or NotReadyException)
        {
            // Told to whoever asked; nothing else.
            failed = exception;
        }
    }

    /// <summary>A table leaves the crossing, with its copy.</summary>
    private async Task RemoveAsync(CrossingEngine engine)
    {
        await engine.Tables.RemoveAsync(Crossing, [SimRows.Second.Name], new DroppedCopies(), "sim", CancellationToken.None);
        Count("table", "removed");
    }

    /// <summary>Changes are applied again that were applied before: nothing may come of it.</summary>
    private async Task RewindAsync(CrossingEngine engine, LogPosition from)
    {
        await engine.Rewinds.AskAsync(Crossing, new StartPlace($"{from.Offset}"), [], "sim", CancellationToken.None);
        Count("changes", "asked to be applied again");
    }

    private async Task AddAsync(CrossingEngine engine)
    {
        if (engine.Status(Crossing) is { Definition.Tables: { } rules } && !rules.Takes(SimRows.Second.Name))
        {
            await engine.Tables.AddAsync(Crossing, [SimRows.Second.Name], "sim", Crossing, CancellationToken.None);
            Count("table", "added");
        }
    }

    private void RunSome(int turns)
    {
        for (var i = 0; i < turns; i++)
        {
            var alive = processes.Where(entry => entry.Process.HasWork).ToList();
            if (alive.Count == 0)
            {
                if (!Advance())
                {
                    // A continuation may be on its way through the thread pool; if nothing comes, something hangs for good.
                    Thread.Sleep(1);
                    idle = processes.Exists(entry => entry.Process.HasWork) ? 0 : idle + 1;
                    if (idle > 300)
                    {
                        throw Failure(
                            $"nothing is left to run, and it has not come to rest: {Engine.Status(Crossing)?.State.Word()}; {failed}"
                        );
                    }
                }

                continue;
            }

            idle = 0;

            alive[Random.Next(alive.Count)].Process.RunOne();
            if (broken is not null)
            {
                throw broken;
            }
        }
    }

    /// <summary>Moves time to the next thing that is due.</summary>
    private bool Advance()
    {
        var due = processes
            .Select(entry => entry.Clock.NextDue)
            .Concat(later.Select(item => (DateTimeOffset?)item.At))
            .Where(at => at is not null)
            .Min();
        if (due is null)
        {
            return false;
        }

        Now = due.Value > Now ? due.Value : Now;
        processes.ForEach(entry => entry.Clock.Fire());
        foreach (var item in later.Where(item => item.At <= Now).ToList())
        {
            later.Remove(item);
            item.Do();
        }

        return true;
    }

    /// <summary>Whether the position of the target is in a log that the present one knows nothing of.</summary>
    private bool IsLeftBehind =>
        Target.Progress is { Position: { } position, Identity: { } log } && Source.Moves.Now(position, log).Branch < Source.Moves.Branch;

    /// <summary>
    /// Whether there were other logs between the target's log and the present one. The spool of a process that was thought dead may then
    /// have passed on from a different position than the target.
    /// </summary>
    private bool MayBeBetween => Target.Progress.Identity is { } log && log != Source.Moves.Identity && Source.Moves.Branch > 1;

    private void SettleDown()
    {
        foreach (var (process, _, _) in processes.SkipLast(1))
        {
            process.Kill();
        }

        var asked = Now;
        var until = Now + Settle;
        while (
            store.Waiting.Count > 0
            || joining is not null
            || IsRemoved
            || Progress.Position is not { } applied
            || applied < Source.Head
            || Progress.Tables.Any(table => (!table.IsInStream && !table.Held) || table.Position > applied)
        )
        {
            if (Now > until)
            {
                var status = Engine.Status(Crossing);
                throw Failure(
                    $"it does not come to rest: {status?.State.Word()}, applied {Target.Progress.Position}, source {Source.Head}. "
                        + $"{status?.Fault?.What} {status?.Waiting?.What} {status?.Capture?.Waiting} {failed}"
                );
            }

            RunSome(50);
            if (joining is not null)
            {
                Join();
            }

            if (Now - asked > TimeSpan.FromSeconds(20))
            {
                asked = Now;
                var engine = Engine;
                if (
                    (hasLostTail || IsLeftBehind || MayBeBetween || files is not null)
                    && engine.Status(Crossing)?.Fault is { PlaceLost: true }
                )
                {
                    // A load had read what was lost with the source; or a target was ahead of a spool that passed a join.
                    Count("place", "lost");
                    processes[^1]
                        .Process.Post(_ => _ = AskAsync(() => engine.ReloadAsync(Crossing, [], "sim", CancellationToken.None)), null);
                }

                if (removes)
                {
                    processes[^1].Process.Post(_ => _ = SteerAsync(engine, 8), null);
                }

                processes[^1].Process.Post(_ => _ = SteerAsync(engine, 5), null);
                processes[^1].Process.Post(_ => _ = DecideAsync(engine, 1), null);
            }
        }
    }

    /// <summary>All that is damaged is found and repaired.</summary>
    private void MendAll()
    {
        // A comparison that is at work already may have looked before the last damage.
        var (engine, until, mended, begins) = (Engine, Now + Settle, false, Now);
        processes[^1].Process.Post(_ => _ = MendAsync(), null);
        while (!mended)
        {
            if (Now > until)
            {
                var last = reconciliations.ListAsync(Crossing, 1, CancellationToken.None).Result is [{ } one] ? one : null;
                throw Failure(
                    $"it cannot be repaired: {string.Join(", ", damaged)}. {Engine.Status(Crossing)?.State.Word()}, {last?.State} "
                        + $"{last?.Note} "
                        + $"{string.Join("; ", last?.Tables.Select(table => $"{table.Into}: {table.Reason} {table.Rows.Count}") ?? [])} "
                        + $"{failed}"
                );
            }

            RunSome(50);
        }

        async Task MendAsync()
        {
            while (!mended)
            {
                await AskAsync(() => engine.RunAsync(Crossing, "sim", CancellationToken.None));
                await AskAsync(() => engine.Reconcile.StartAsync(Crossing, ComparisonScope.All, "sim", CancellationToken.None));
                do
                {
                    await Task.Delay(TimeSpan.FromMilliseconds(100), processes[^1].Clock, CancellationToken.None);
                } while (engine.Reconcile.Running(Crossing) is not null);

                mended =
                    await reconciliations.ListAsync(Crossing, 1, CancellationToken.None)
                        is [{ IsEqual: true, Scope: { Changed: false, From: null }, BeganAt: var at }]
                    && at >= begins;
                await AskAsync(() => RepairAsync(engine));
            }
        }
    }

    private void CheckEnd()
    {
        var expected = Source.Treatment.KeepsVersions
            ?
            [
                .. SimVersions
                    .At(Source.History, Progress.Tables, Source.Head)
                    .Select(pair => (pair.Key.Table, pair.Key.Key, Row: pair.Value)),
            ]
            : Source.Rows.SelectMany(pair => pair.Value.Values.SelectMany(row => Source.Treatment.Crosses(pair.Key, row))).ToList();
        var bad = expected
            .Where(row => !Target.Rows.TryGetValue((row.Table, row.Key), out var there) || there != row.Row)
            .Select(row => $"{row.Table} {row.Key}: {Shown(row.Row)}, there {Shown(Target.Rows.GetValueOrDefault((row.Table, row.Key)))}")
            .ToList();
        if (expected.Count != Target.Rows.Count || bad.Count > 0)
        {
            throw Failure(
                $"the target has {Target.Rows.Count} rows, {expected.Count} should be there; missing or other there: "
                    + $"{string.Join(", ", bad)}. {Target.Progress.Position} {string.Join(" ", Target.Progress.Tables)}"
            );
        }

        // A change of the quarantine is tried again after a crash; found by its key, it may be met where it is already.
        if (Target.Unexpected > 0 && !refuses && !damages)
        {
            throw Failure($"{Target.Unexpected} changes took effect twice, or met a row that should not be there");
        }
    }

    /// <summary>Of each change of a schema that the spool holds, the version is kept.</summary>
    private void CheckVersions()
    {
        var kept = store.Versions.Everything.Select(version => SchemaDigest.Of(version.Schema)).ToHashSet();
        var data = Disk.Durable.Values.SelectMany(records => records).Where(record => record.Kind == SpoolRecordKind.Data);
        foreach (var fragment in data.SelectMany(record => FragmentCodec.Read(record.Body, 0, record.Transactions, record.Changes)))
        {
            var changes = new ChangeReader(fragment.Changes);
            while (changes.TryRead(out var change))
            {
                if (
                    change.Kind == ChangeKind.Schema
                    && Source.Restructuring.Relations[change.Relation] is var form
                    && !kept.Contains(SchemaDigest.Of(form))
                )
                {
                    throw Failure($"the spool holds a change of {form.Name} at {fragment.Position} of which no version is kept");
                }
            }
        }
    }

    private static string Shown(Row row) => string.Join('|', Enumerable.Range(0, row.Count).Select(row.DisplayAt));

    private SimFailure Failure(string what) => new($"seed {Seed}: {what}");

    private void CommitAtSource()
    {
        if (Source.IsClosed)
        {
            return;
        }

        Now += TimeSpan.FromMilliseconds(Random.Next(1, 40));
        var changes = new List<RowChange>();
        var view = Source.Rows.ToDictionary(pair => pair.Key, pair => new SortedDictionary<long, Row>(pair.Value));
        for (var i = Random.Next(15) == 0 ? 13 + Random.Next(20) : 1 + Random.Next(5); i > 0; i--)
        {
            changes.Add(OneChange(view));
        }

        Source.Commit(Now, changes);
        files?.Commit(Now, changes, Source.Head);
    }

    private RowChange OneChange(Dictionary<Core.Schemas.TableName, SortedDictionary<long, Row>> view)
    {
        var table = SimRows.All[Random.Next(SimRows.All.Count)].Name;
        var (relation, rows) = (Source.Restructuring.RelationOf(table), view[table]);
        var dice = Random.Next(40);
        if (dice == 0 && !Source.Treatment.KeepsVersions)
        {
            rows.Clear();
            return new RowChange(ChangeKind.Truncate, relation, default, default);
        }

        if (rows.Count == 0 || dice < 16)
        {
            var key = Random.Next(3) == 0 && nextKey > 1 ? FreeKey(rows) : nextKey++;
            var row = RowOf(relation, key);
            rows.Add(key, row);
            return new RowChange(ChangeKind.Insert, relation, default, row);
        }

        var before = rows.ElementAt(Random.Next(rows.Count)).Value;
        rows.Remove(before.IntegerAt(0));
        if (dice < 24)
        {
            return new RowChange(ChangeKind.Delete, relation, before, default);
        }

        var moved = dice < 28 ? FreeKey(rows, before.IntegerAt(0)) : before.IntegerAt(0);
        var after = RowOf(relation, moved);
        rows.Add(moved, after);
        return new RowChange(ChangeKind.Update, relation, before, after);
    }

    private Row RowOf(int relation, long key)
    {
        var row = SimRows.Of(key, Source.Treatment.Value(Random.Next(1000)));
        var columns = Source.Restructuring.Relations[relation].Columns.Count;
        return columns == row.Count ? row : SimRows.Widened(row, columns, Random.Next(3) == 0 ? null : $"{Random.Next(1000)}");
    }

    /// <summary>A key that was perhaps used before.</summary>
    private long FreeKey(SortedDictionary<long, Row> rows, long not = 0)
    {
        for (var tries = 0; tries < 5; tries++)
        {
            var key = Random.NextInt64(1, nextKey);
            if (!rows.ContainsKey(key) && key != not)
            {
                return key;
            }
        }

        return nextKey++;
    }

    private sealed class Systems(IConnector source, IConnector target, ISpoolFiles files, IProgressStore? kept) : IConnections
    {
        public SourceSystem Source(string connection) => new(connection, source);

        public TargetSystem Target(string connection) => new(connection, target, kept);

        public ISpoolFiles SpoolOf(string connection) => files;
    }
}

/// <summary>A promise was broken; the message begins with the seed.</summary>
public sealed class SimFailure(string message) : Exception(message);
