using Vestige.Core.Crossings;
using Vestige.Core.Lag;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Core.Treatments;
using Vestige.Engine.Capturing;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Following;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;
using Vestige.Engine.Shapes;
using Vestige.Engine.Treating;

namespace Vestige.Engine.Workers;

// From the first load of a table to following it. Its state is what the target keeps about it (TableProgress):
//
//     none ── load begun ──> loading ── loaded as of P ──> ahead of the stream ── stream at P ──> following
//                            ^     │                              │                                  │
//                            └─────┘ interrupted: see case 3      └──── its form changed: held, until it is loaded again
//
// Each table is loaded as of a position P of its own; one stream, at position S, applies changes to all tables.
//
//  1. A table that was loaded as of P, and to which nothing was applied since, holds exactly what was committed at P or before.
//  2. A change that was committed at C is applied to a table exactly where P < C and the table is not held. So nothing is applied
//     twice, and nothing is left out.
//  3. A table is among those that are read before its load's snapshot is opened, and the snapshot waits for the transactions that were
//     open then. So the spool holds every change of it after P.
//  4. S begins at the lowest P and only grows. The spool keeps everything after S.
//  5. What is written down is written in one step with the rows that it speaks of; where a target cannot do that for all tables, for each.
//  6. References among tables are built when every table that is not held has P <= S: before, a row may be there whose parent has yet
//     to come.
//
//  Case 1. A row is written at C, read by the snapshot (C <= P), and met in the log after that: passed over, by 2.
//  Case 2. Table A is loaded as of 10, B as of 30. S begins at 10; a transaction at 20 changes both. A gets its part; of B it is passed
//          over, as the load has brought it. Between 10 and 30 the target is a state that the source never had, which 6 is for.
//  Case 3. A load is interrupted. The next one has another snapshot, P' > P. The table begins again from nothing, or, where the source
//          tells what was written since P, only the missing ranges are read; either way the whole table is then as of P'.
//  Case 4. One table is loaded again while S stands beyond: where the others wait meanwhile, it comes to P > S, and 2 holds as for a new
//          one. Where they go on, S may be beyond P when it is loaded: TablesBeside brings it there.
//  Case 5. The process dies between the last rows of a load and its being written down: the rows are there and the table is not loaded.
//          As case 3.

/// <summary>
/// Brings the tables of a crossing to where one stream can continue with them: loads what is missing, begins the stream, and builds
/// the references among tables once all of them have caught up with it.
/// </summary>
internal sealed class TableSync(WorkerContext context)
{
    private readonly CrossingDefinition definition = context.Definition;
    private readonly CrossingTreatment treating = context.Treating;
    private readonly SourceSystem source = context.Source;
    private readonly Capture capture = context.Capture;
    private readonly WorkerState state = context.State;
    private readonly EventLog events = context.Events;

    /// <summary>The tables that cross: those the target knows once the stream has begun, before that what the source has.</summary>
    public async Task<IReadOnlyList<TableName>> TablesAsync(TargetProgress progress, CancellationToken cancellation)
    {
        var known = progress.Tables.Select(table => table.Table).Where(definition.Tables.Takes);
        if (progress.Position is not null)
        {
            return [.. known];
        }

        // A load of everything again brings what the crossing has, and tables made since only where its rules take later ones.
        var mine = known.ToHashSet();
        var there = await source.Catalogue.ReadTablesAsync(cancellation);
        return
        [
            .. TakenTables
                .Of(definition.Tables, there)
                .Where(table => mine.Count == 0 || (definition.Tables.Future && table.CrossesAs(definition.AppliedAs(table.Schema.Name))))
                .Select(table => table.Schema.Name)
                .Union(mine)
                .Order(),
        ];
    }

    /// <summary>Throws <see cref="PlaceLostException"/> when what the target has does not stand in the log that is read.</summary>
    public void Agree(TargetProgress progress)
    {
        var loaded = progress.Tables.Where(table => table.Loaded).ToList();
        if (progress.Position is null && loaded.Count == 0)
        {
            return;
        }

        ThrowIfBeyond(progress, loaded);
        var stands = progress.Position ?? loaded.Min(table => table.Position);
        var isOfLog = stands.Branch != LogPosition.BeforeAll;
        if (!isOfLog || !capture.Spool.Contains(stands))
        {
            throw new PlaceLostException(
                !isOfLog
                    ? $"The target's position is in the log {progress.Identity}; the source's log is {capture.Spool.Identity}."
                    : $"The spool begins at position {source.Log.Format(capture.Spool.Begin)}; the target is at "
                        + $"{source.Log.Format(stands)}. What lies between is lost."
            )
            {
                Remedy = "Load the crossing again.",
            };
        }
    }

    /// <summary>
    /// What was read of a log beyond the end of its branch, as by a load just before its server was lost, is of a state that never
    /// was as far as the log that followed knows. A table that is ahead of its crossing is seen to where that passes on
    /// (<see cref="BranchPassage"/>).
    /// </summary>
    private void ThrowIfBeyond(TargetProgress progress, IEnumerable<TableProgress> loaded)
    {
        var positions = loaded
            .Where(table => !table.Held)
            .Select(table => (What: $"{table.Table}", Log: table.Log ?? progress.Identity, table.Position))
            .Prepend((What: "The target", Log: progress.Identity, Position: progress.Position ?? LogPosition.Zero));
        foreach (var (what, log, position) in positions.Where(one => one.Position.Branch == LogPosition.BeforeAll))
        {
            if (capture.Spool.Branches.LastOrDefault(branch => branch.Identity == log) is { End: { } end } && position.Offset > end)
            {
                throw new PlaceLostException(
                    $"{what} stands at {source.Log.Format(position)} of the log {log}, of which the spool has only what came before "
                        + $"{source.Log.Format(position.At(end))}; where that stands in the log that followed is not known."
                )
                {
                    Remedy = "Load the crossing again.",
                };
            }
        }
    }

    /// <summary>Loads tables; where only changes cross, those that were never begun are taken as they were found by the check.</summary>
    /// <param name="work">The hold on the target.</param>
    /// <param name="missing">The tables.</param>
    /// <param name="soon">Cancelled when no further chunk is to be begun.</param>
    /// <param name="cancellation">Gives up at once.</param>
    public async Task BringAsync(ITargetWork work, IReadOnlyList<TableName> missing, CancellationToken soon, CancellationToken cancellation)
    {
        var begun = work.Session.Progress.Tables.Select(table => table.Table).ToHashSet();
        var found = definition.Kind == StartKind.Changes ? missing.Where(table => !begun.Contains(table)).ToList() : [];
        if (found.Count > 0)
        {
            await TakeAsync(work.Session, found, cancellation);
        }

        if (found.Count < missing.Count)
        {
            context.Meter.RestBegins(OwnRest.Load, context.Clock.GetUtcNow());
            try
            {
                await source.Log.EnsureReadAsync([.. missing.Except(found)], cancellation);
                await LoadAsync(work, [.. missing.Except(found)], soon, cancellation);
            }
            finally
            {
                context.Meter.RestEnds(OwnRest.Load, context.Clock.GetUtcNow());
            }
        }
    }

    /// <summary>
    /// As of where rows are to be that cross once; null for as they are. A place that was named stays what it is, also where it is found by
    /// a time. Throws <see cref="PortException"/> where the spool does not hold all that happened since.
    /// </summary>
    public async Task<LogPosition?> AsOfAsync(TargetProgress progress, CancellationToken cancellation)
    {
        if (definition.Start?.AsOf is not { } place)
        {
            return null;
        }

        var tables = await TablesAsync(progress, cancellation);
        var (check, position) = await new PastStart(source, capture.Spool, context.Clock).FindAsync(place, tables, cancellation);
        return position ?? throw new PortException($"The rows as of then cannot be determined: {check.Found}.") { Remedy = check.Remedy };
    }

    /// <summary>All tables are loaded: the stream begins at the lowest of their positions.</summary>
    public async Task BeginStreamAsync(IProgressSession session, CancellationToken cancellation)
    {
        var start = Mine(session.Progress).Min(table => table.Position);
        await session.SaveAsync(new ProgressUpdate(start, [], capture.Spool.Branches[start.Branch].Identity), cancellation);
        state.Take(session.Progress);
        capture.Spool.Retain(definition.Name, session.Progress.Position);
    }

    /// <summary>The position at which every table has caught up with the stream.</summary>
    public LogPosition Together(TargetProgress progress) => Mine(progress).Max(table => table.Position);

    /// <summary>
    /// Whether references are still to be built and can be: once every table stands at the position of the stream. Before, a row
    /// may be there whose parent has yet to come.
    /// </summary>
    /// <param name="progress">What the target knows.</param>
    /// <param name="reached">Everything up to here is applied.</param>
    public bool IsToSettle(TargetProgress progress, LogPosition reached)
    {
        var mine = Standing(progress);
        return mine.Any(table => !table.Settled) && mine.All(table => table.IsInStream && table.Position <= reached);
    }

    /// <summary>The source's tables, which say what references there are; none where the target's were made by others.</summary>
    public async Task<IReadOnlyList<TableDescription>> FormsAsync(CancellationToken cancellation) =>
        definition.Kind == StartKind.Changes ? [] : await source.Catalogue.ReadTablesAsync(cancellation);

    /// <summary>The tables that are not held.</summary>
    public IReadOnlyList<TableProgress> Standing(TargetProgress progress) => [.. Mine(progress).Where(table => !table.Held)];

    private IEnumerable<TableProgress> Mine(TargetProgress progress) =>
        progress.Tables.Where(table => definition.Tables.Takes(table.Table));

    private async Task LoadAsync(ITargetWork work, IReadOnlyList<TableName> missing, CancellationToken soon, CancellationToken cancellation)
    {
        using var stopping = CancellationTokenSource.CreateLinkedTokenSource(cancellation, soon);
        using var activity = EngineTraces.Begin("load", definition.Name)?.SetTag("vestige.tables", missing.Count);
        var progress = work.Session.Progress;
        var loading = work.NewLoad();
        state.Loads(loading);
        await events.OfCrossingAsync(definition.Name, EventKind.Note, $"Loading {Figures.Of(missing.Count, "table")}.");
        var allFirst = progress.Position is null && progress.Tables.All(table => !table.Loaded);
        await loading.RunAsync(missing, allFirst, stopping.Token);
        state.Loads(null);
        state.Take(work.Session.Progress);
        var (read, rows) = (loading.Tables.Sum(table => table.Rows), loading.Tables.Sum(table => table.RowsWritten));
        context.Meter.Loaded(rows);
        await events.OfCrossingAsync(
            definition.Name,
            EventKind.Note,
            $"Loaded {Figures.Of(rows, "row")}"
                + (read > rows ? $" of {Figures.Count(read)} read" : "")
                + (loading.GoneOn > 0 ? $", {Figures.Of(loading.GoneOn, "table")} resumed where the load was interrupted," : "")
                + $" as of position {source.Log.Format(loading.Position)}."
        );
    }

    /// <summary>Tables that were loaded by other means stand where the definition says, or where the log stands now.</summary>
    private async Task TakeAsync(IProgressSession session, List<TableName> found, CancellationToken cancellation)
    {
        var (at, described) = definition.Start?.From is { } from
            ? await PastAsync(from, found, cancellation)
            : await NowAsync(found, cancellation);

        // How a table was at a place in the past is not known; any change that is told after it counts then.
        var forms = definition.Start?.From is null
            ? described.ToDictionary(table => table.Schema.Name, table => SchemaFingerprint.Of(table.Schema))
            : [];
        var log = capture.Spool.Branches[at.Branch].Identity;
        var taken = found
            .Select(table => new TableProgress(
                table,
                Loaded: true,
                at,
                Into: TableProgress.NamesOf(treating.TargetsOf(table)),
                Fingerprint: forms.GetValueOrDefault(table)
            )
            {
                Log = log,
            })
            .ToList();
        await session.SaveAsync(new ProgressUpdate(null, taken, session.Progress.Identity is null ? log : null), cancellation);
        context.FirstStart.Pending = false;
        state.Take(session.Progress);
        await events.OfCrossingAsync(
            definition.Name,
            EventKind.Note,
            $"Changes of {Figures.Of(found.Count, "table")} are taken from position {source.Log.Format(at)}."
        );
    }

    /// <summary>After every transaction that was open when the tables began to be read, which is what a snapshot waits for.</summary>
    private async Task<(LogPosition At, IReadOnlyList<TableDescription> Forms)> NowAsync(
        List<TableName> found,
        CancellationToken cancellation
    )
    {
        if (!context.FirstStart.Pending)
        {
            throw new PortException(
                $"The target knows nothing of {found[0]} in this crossing, and whether its rows still agree with the source cannot be "
                    + "told any more."
            )
            {
                Remedy = "Load its tables by other means again, remove the crossing and create it again.",
            };
        }

        await using var snapshot = await BranchReads.SnapshotAsync(source, capture.Spool, 1, cancellation);
        capture.RetainsWhole(found, snapshot.Position);
        return (snapshot.Position, await snapshot.ReadTablesAsync(cancellation));
    }

    /// <summary>A place that was named stays what it is, whenever it becomes taken.</summary>
    private async Task<(LogPosition At, IReadOnlyList<TableDescription> Forms)> PastAsync(
        StartPlace from,
        List<TableName> found,
        CancellationToken cancellation
    )
    {
        var (check, position) = await new PastStart(source, capture.Spool, context.Clock).FindAsync(from, found, cancellation);
        return position is { } at
            ? (at, await source.Catalogue.ReadTablesAsync(cancellation))
            : throw new PortException($"Changes cannot be taken from where the definition says: {check.Found}.") { Remedy = check.Remedy };
    }
}
