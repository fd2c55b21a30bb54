using Vestige.Core.Crossings;
using Vestige.Core.Loading;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Engine.Capturing;
using Vestige.Engine.Faults;
using Vestige.Engine.Following;
using Vestige.Engine.Ports;
using Vestige.Engine.Treating;

namespace Vestige.Engine.Loading;

/// <summary>
/// Copies the rows of some tables as of one position. Each table is marked as loaded, with that position, when its rows are
/// written and its keys are built. An interrupted load continues from a snapshot of its own: with the ranges that were not
/// finished, where source and target still have what was; else with the tables that were not.
/// </summary>
internal sealed class InitialLoad(
    SourceSystem source,
    TargetSystem target,
    ITargetSession session,
    Capture capture,
    CrossingTreatment treating,
    RouteEnds ends,
    TimeProvider clock
) : ILoad
{
    private const int Readers = 2;

    private const int BlocksPerCommit = 256;

    /// <summary>Few, where the stream waits for the transaction to end.</summary>
    private const int BlocksPerCommitInTurns = 16;
    private readonly List<LoadChunk> chunks = [];
    private readonly IRowReplacement? replacement = target.Find<IRowReplacement>();

    /// <summary>
    /// What a load beside the stream is told by and tells; null where nothing else goes on meanwhile. Tables that are this crossing's own
    /// are then not emptied: their rows are replaced at the end.
    /// </summary>
    public BesideLoad? Beside { get; init; }

    public IReadOnlyList<TableLoad> Tables { get; private set; } = [];

    public DateTimeOffset? StartedAt { get; private set; }

    public LogPosition Position { get; private set; }

    public int GoneOn { get; private set; }

    public TimeSpan Slowed => Beside?.Slowed ?? TimeSpan.Zero;

    public async Task RunAsync(IReadOnlyList<TableName> names, bool first, CancellationToken cancellation)
    {
        await using var snapshot = await BranchReads.SnapshotAsync(source, capture.Spool, Readers, cancellation);
        Position = snapshot.Position;
        var identity = SnapshotLog;
        capture.RetainsWhole(names, Position);
        var forms = await FormsAsync(snapshot, names, cancellation);
        await ClearMergedAsync(forms, identity, cancellation);
        var rests = await RestsAsync(snapshot, forms, identity, cancellation);
        try
        {
            var usable = await MakeReadyAsync(forms, rests, cancellation);
            var loads = new List<TableLoad>();
            foreach (var form in forms)
            {
                loads.Add(usable.TryGetValue(form.Name, out var rest) ? GoOn(form, rest) : await BeginAsync(snapshot, form, cancellation));
            }

            var fresh = loads.Where(load => !usable.ContainsKey(load.Table.Name)).ToList();
            await CheckAsync(fresh, cancellation);
            GoneOn = usable.Count;
            Tables = loads;
            await PrepareAsync(fresh, identity, first && usable.Count == 0, cancellation);
            foreach (var merging in loads.Where(load => Merges(load.Table.Name)))
            {
                await session.BuildPrimaryKeyAsync(merging.Targets[0], cancellation);
            }

            if (treating.Definition.Kind == StartKind.Structure)
            {
                await EndEmptyAsync(loads, cancellation);
                return;
            }

            StartedAt = clock.GetUtcNow();
            var reader = new ChunkReader(snapshot, target.Tables.TakenForms, treating.Build);
            await CopyOf(reader).RunAsync(chunks, cancellation);
        }
        catch (PortException exception) when (rests.Count > 0 && !exception.Transient && exception is not PlaceLostException)
        {
            await ForgetAsync(rests.Keys, cancellation);
            throw new PortException(
                $"{exception.Message} The load of {string.Join(", ", rests.Keys.Order())} could not go on where it was interrupted.",
                exception
            )
            {
                Transient = true,
                Remedy = "Vestige starts it again automatically.",
            };
        }
    }

    private ChunkCopy CopyOf(ChunkReader reader) =>
        new(reader, Position, session, ends.OfRows, Readers, clock)
        {
            Replacement = replacement,
            Pace = Beside is null ? null : Beside.PaceAsync,
            Ended = Beside is null ? null : Beside.EndedAsync,
            BlocksPerCommit = Beside is { IsTakingTurns: true } ? BlocksPerCommitInTurns : BlocksPerCommit,
        };

    /// <summary>
    /// Whether the rows of a table stay until others replace them: those of a target's table that this crossing made for this table alone,
    /// which hold what the source holds and nothing else.
    /// </summary>
    private bool IsReplaced(LoadForm form, IReadOnlySet<TableName> own) =>
        Beside is not null
        && treating.IsReplaceable(form.Name)
        && form.Targets is [var into]
        && own.Contains(into.Name)
        && !session.Progress.Tables.Any(table =>
            table.Table != form.Name && (table.IntoTables ?? [target.Target.NameFor(table.Table)]).Contains(into.Name)
        );

    private LogIdentity SnapshotLog => capture.Spool.Branches[Position.Branch].Identity;

    private LogIdentity? LogOf(TableProgress table) => table.Log ?? session.Progress.Identity;

    /// <summary>Whether rows of others stay in the target's table.</summary>
    private bool Merges(TableName table) => treating.Definition.ExistingFor(table) == ExistingRows.Merge;

    /// <summary>
    /// A table whose rows are merged is not emptied before its load begins again: what the source has deleted since the first
    /// snapshot is taken away by the log instead. Where the log cannot tell it any more, nobody can.
    /// </summary>
    private async Task ClearMergedAsync(List<LoadForm> forms, LogIdentity identity, CancellationToken cancellation)
    {
        var begun = session
            .Progress.Tables.Where(table =>
                table.IntoTables is { Count: > 0 } && Merges(table.Table) && forms.Exists(form => form.Name == table.Table)
            )
            .ToList();
        if (begun.Count == 0)
        {
            return;
        }

        var lost = begun
            .Find(table => table.Part is not { } part || !capture.Spool.Contains(part.Since) || LogOf(table) != identity)
            ?.Table;
        if (lost is null)
        {
            var parts = begun.ToDictionary(table => table.Table, table => table.Part!);
            lost = (await new StaleRows(capture, session, treating, ends.OfRows).ClearAsync(parts, Position, cancellation))
                .Order()
                .Select(table => (TableName?)table)
                .FirstOrDefault();
        }

        if (lost is not null)
        {
            throw new PortException(
                $"The load of {lost} was interrupted, its rows are merged with those of others, and what the source has deleted "
                    + "meanwhile cannot be told any more."
            )
            {
                Remedy = "Say in the definition that existing rows of it are deleted first, and load it again.",
            };
        }
    }

    /// <summary>What is left of the tables whose load was interrupted and can go on: where every row crosses, in its own place.</summary>
    private async Task<Dictionary<TableName, Rest>> RestsAsync(
        ISourceSnapshot snapshot,
        List<LoadForm> forms,
        LogIdentity identity,
        CancellationToken cancellation
    )
    {
        var parts = session
            .Progress.Tables.Where(table =>
                table.Part is { Done.Count: > 0 } part && capture.Spool.Contains(part.Since) && LogOf(table) == identity
            )
            .ToDictionary(table => table.Table, table => table.Part!);
        var rests = new Dictionary<TableName, Rest>();
        foreach (var form in forms.Where(form => form.Treatment.PassesAll && !Merges(form.Name)))
        {
            if (
                parts.TryGetValue(form.Name, out var part)
                && await snapshot.CutRestAsync(form.Treatment.Source, part, ChunkCount.For(form.EstimatedRows), cancellation) is { } ranges
            )
            {
                rests.Add(form.Name, new Rest(part, ranges));
            }
        }

        return rests;
    }

    /// <summary>Builds the keys by which rows are found, and takes away what is gone since. Returns those that can go on.</summary>
    private async Task<Dictionary<TableName, Rest>> MakeReadyAsync(
        List<LoadForm> forms,
        Dictionary<TableName, Rest> rests,
        CancellationToken cancellation
    )
    {
        if (rests.Count == 0)
        {
            return rests;
        }

        foreach (var form in forms.Where(form => rests.ContainsKey(form.Name)))
        {
            await session.BuildPrimaryKeyAsync(form.Targets[0], cancellation);
        }

        var changed = await new StaleRows(capture, session, treating, ends.OfRows).ClearAsync(
            rests.ToDictionary(pair => pair.Key, pair => pair.Value.Part),
            Position,
            cancellation
        );
        return rests.Where(pair => !changed.Contains(pair.Key)).ToDictionary();
    }

    private TableLoad GoOn(LoadForm form, Rest rest)
    {
        var load = new TableLoad(form.Treatment, form.Targets, form.EstimatedRows, rest.Ranges.Count, rest.Part)
        {
            Log = SnapshotLog,
            IsBeside = Beside is not null,
        };
        var unread = Math.Max(1, rest.Ranges.Count(range => range.ChangedSince is null));
        var cost = Math.Max(1.0, (double)Math.Max(0, form.EstimatedRows - rest.Part.Rows) / unread);
        chunks.AddRange(rest.Ranges.Select(range => new LoadChunk(load, range, cost, merges: true)));
        return load;
    }

    private async Task<TableLoad> BeginAsync(ISourceSnapshot snapshot, LoadForm form, CancellationToken cancellation)
    {
        var table = form.Treatment.Source;
        var ranges = await snapshot.CutAsync(table, ChunkCount.For(form.EstimatedRows), cancellation);
        var merges = Merges(form.Name);
        var replaces = IsReplaced(form, treating.OwnTables(session.Progress)) ? form.Targets[0] : null;
        var mark =
            ranges.Count > 1 && form.Treatment.PassesAll && !merges && replaces is null
                ? await snapshot.MarkAsync(table, cancellation)
                : null;
        var load = new TableLoad(
            form.Treatment,
            replaces is null ? form.Targets : [replacement!.BesideOf(treating.Definition.Name, replaces)],
            form.EstimatedRows,
            ranges.Count,
            mark is null ? null : new LoadCheckpoint(mark, Position, 0, [])
        )
        {
            Log = SnapshotLog,
            IsBeside = Beside is not null,
            Replaces = replaces,
        };
        var cost = Math.Max(1.0, (double)form.EstimatedRows / ranges.Count);
        chunks.AddRange(ranges.Select(range => new LoadChunk(load, new RowRange(range), cost, merges)));
        return load;
    }

    /// <summary>What could not be gone on with begins again the next time, instead of failing in the same way for ever.</summary>
    private async Task ForgetAsync(IReadOnlyCollection<TableName> tables, CancellationToken cancellation)
    {
        var forgotten = session.Progress.Tables.Where(table => tables.Contains(table.Table)).Select(table => table.Anew());
        await session.SaveAsync(new ProgressUpdate(null, [.. forgotten]), cancellation);
    }

    private async Task<List<LoadForm>> FormsAsync(ISourceSnapshot snapshot, IReadOnlyList<TableName> names, CancellationToken cancellation)
    {
        var treated = await SnapshotTables.TreatedAsync(snapshot, names, treating, cancellation);
        var structure = target.Tables.StructureOf([.. treated.Select(table => table.Treatment)]).Tables;
        var forms = new List<LoadForm>();
        foreach (var (treatment, rows) in treated)
        {
            var first = forms.Sum(form => form.Targets.Count);
            forms.Add(new LoadForm(treatment, [.. structure.Skip(first).Take(treatment.Tables.Count)], rows));
        }

        return forms;
    }

    /// <summary>
    /// A table that the target does not know as this crossing's own is checked once more before it is emptied: the target may
    /// be another one than at the start, or someone may have removed the progress from it.
    /// </summary>
    private async Task CheckAsync(List<TableLoad> loads, CancellationToken cancellation)
    {
        var own = treating.OwnTables(session.Progress);
        var fresh = loads
            .Where(load => load.Replaces is null)
            .SelectMany(load => load.Targets)
            .Where(table => !own.Contains(table.Name))
            .DistinctBy(table => table.Name)
            .ToList();
        if (fresh.Count == 0)
        {
            return;
        }

        var checks = await target.Target.CheckTargetAsync(
            fresh,
            treating.ExistingOf(loads.Select(load => load.Treatment)),
            own,
            cancellation
        );
        if (checks.Select(treating.Definition.Judge).FirstOrDefault(check => !check.Ok) is { } wrong)
        {
            throw new PortException(
                $"The target knows nothing of a load by this crossing, and {wrong.Step} does not hold: {wrong.Found}. Nothing was "
                    + "changed there."
            )
            {
                Remedy = wrong.Remedy,
            };
        }
    }

    /// <summary>Makes the tables empty and of the wanted form, and writes down that they are begun.</summary>
    private async Task PrepareAsync(List<TableLoad> loads, LogIdentity identity, bool first, CancellationToken cancellation)
    {
        var own = treating.OwnTables(session.Progress);
        await using var transaction = await session.BeginAsync(checkReferences: false, ends.OfRows, cancellation);
        await MakeTablesAsync(transaction, [.. loads.Where(load => load.Replaces is null)], own, cancellation);
        foreach (var beside in loads.Where(load => load.Replaces is not null).Select(load => load.Targets[0]))
        {
            await replacement!.MakeBesideAsync(transaction, beside, cancellation);
        }

        foreach (
            var table in loads
                .Where(load => load.Replaces is null && !Merges(load.Table.Name))
                .SelectMany(load => load.Targets)
        )
        {
            // What this crossing did not write goes as a whole; of its own, what other tables have put beside stays.
            await transaction.EmptyAsync(own.Contains(table.Name) ? table : table with { Shared = null }, cancellation);
        }

        await transaction.CommitAsync(
            new ProgressUpdate(
                null,
                [
                    .. loads.Select(load =>
                        load.Progress(
                            loaded: false,
                            LogPosition.Zero,
                            Merges(load.Table.Name) ? new LoadCheckpoint("", Position, 0, []) : null
                        )
                    ),
                ],
                first ? identity : null,
                Restart: first
            ),
            cancellation
        );
    }

    /// <summary>Makes the tables of the loads as each is to be made: by whose it is, and by what is to become of the rows there.</summary>
    private async Task MakeTablesAsync(
        ITargetTransaction transaction,
        List<TableLoad> loads,
        IReadOnlySet<TableName> own,
        CancellationToken cancellation
    )
    {
        var loaded = loads.Select(load => load.Table.Name).ToHashSet();
        var others = session
            .Progress.Tables.Where(table => !loaded.Contains(table.Table))
            .SelectMany(table => table.IntoTables ?? [])
            .ToHashSet();
        var existing = treating.ExistingOf(loads.Select(load => load.Treatment));
        var tables = loads.SelectMany(load => load.Targets).DistinctBy(table => table.Name).ToLookup(table => MakingOf(table.Name));
        foreach (var making in Enum.GetValues<TableMaking>())
        {
            await transaction.CreateTablesAsync([.. tables[making]], making, cancellation);
        }

        TableMaking MakingOf(TableName table) =>
            own.Contains(table)
                ? others.Contains(table)
                    ? TableMaking.WhereMissingOrSame
                    : TableMaking.WhereOther
                : existing[table] == ExistingRows.Replace
                    ? TableMaking.Anew
                    : TableMaking.WhereMissing;
    }

    /// <summary>Without rows a table is what it is to be once its keys are built.</summary>
    private async Task EndEmptyAsync(List<TableLoad> loads, CancellationToken cancellation)
    {
        foreach (var table in loads.SelectMany(load => load.Targets))
        {
            await session.BuildKeysAsync(table, cancellation);
        }

        await session.SaveAsync(new ProgressUpdate(null, [.. loads.Select(load => load.Progress(loaded: true, Position))]), cancellation);
    }

    /// <summary>What of an interrupted load of a table is left.</summary>
    private sealed record Rest(LoadCheckpoint Part, IReadOnlyList<RowRange> Ranges);

    /// <summary>A table as of the snapshot, and what it is on the target.</summary>
    private sealed record LoadForm(TableTreatment Treatment, IReadOnlyList<TableSchema> Targets, long EstimatedRows)
    {
        public TableName Name => Treatment.Source.Name;
    }
}
