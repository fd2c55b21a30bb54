using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Following;
using Vestige.Engine.Loading;
using Vestige.Engine.Ports;
using Vestige.Engine.Rewinding;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Workers;

// A table that is loaded while the others follow. Its state is what the target keeps about it (TableProgress):
//
//     to be loaded ── the load begins ──> loading ── loaded as of P ──> apart, at C >= P ── C = S, or P > S ──> in the stream
//          ^                                │
//          └──── interrupted ───────────────┘         (a load that a person has to see to: held)
//
// The stream stands at S; it applies nothing to a table that is not in it. One load goes on at a time, of all tables that are to be loaded
// when it begins, two of them being read at once.
//
//  1. A table that was loaded as of P holds exactly what was committed at P or before; one that has reached C, what was committed at C or
//     before. So a table apart is as it was at the source at C, and the others as they were at S.
//  2. C is moved in one transaction with the rows that it speaks of, and by this worker alone, between two batches of the stream. It never
//     goes beyond S, and so never beyond a mark at which the crossing is to stop.
//  3. A table joins between two batches, where C = S; or at once where S has not come to P yet: then the stream passes over what the load
//     has brought, as it does after a first load. From then on changes after S are applied to it, and none of them was before.
//  4. The spool keeps what comes after the lowest of S, every C, and the S at which the load that goes on has begun: P is not before that.
//  5. What a load has written when it fails may still be on its way. So the worker's session is given up then, and the next one has a
//     higher term, for which the target waits until nothing of the earlier one is on its way.
//  6. A branch of the log is left with no table apart and no load going on. What was being loaded begins again.
//  7. A table of which changes are applied again leaves the stream for that, at C = S, and C does not move until it is done (RewindRun).
//
//  Case 1. A row is deleted at the source at D while its table is loaded as of P < D, and S is beyond D by then. The stream has passed over
//          the deletion, since the table was not in it; C moves from P over D to S, and the row goes. Without C it would stay for ever.
//  Case 2. The process dies when all rows are there and the load is not written down as ended: the table is to be loaded, as before.
//  Case 3. It dies between the end of the load and the first step of C: the table is apart, at C = P.
//  Case 4. A refused row goes into quarantine at Q while C moves over it. At a restart it counts where Q <= C, whatever S is.
//  Case 5. The crossing is paused while a table is loaded: its rows stay those of before, and the load begins again when it resumes.

/// <summary>Loads tables beside the stream and brings them to it.</summary>
internal sealed class TablesBeside(
    WorkerContext context,
    ITargetSession session,
    RouteEnds ends,
    LoadPauses pauses,
    AsideNotices notices
) : IAsyncDisposable
{
    private readonly Spool spool = context.Capture.Spool;
    private readonly AsyncSignal ended = new();
    private RewindRun? rewinding;
    private LoadRun? load;
    private IReadOnlyList<TableProgress>? known;
    private List<TableName> missing = [];
    private List<TableProgress> apart = [];
    private List<TableProgress> again = [];

    /// <summary>Beats when a table has been loaded, when a load has ended, and when something can be written again.</summary>
    public AsyncSignal Ended => ended;

    /// <summary>Whether tables have yet to catch up with the stream, and can now.</summary>
    public bool IsCatchingUp => apart.Count > 0;

    /// <summary>Whether tables have yet to come to the stream, now or once they have been written again.</summary>
    public bool IsApart => apart.Count > 0 || rewinding is { IsGoingOn: true };

    /// <summary>Whether a load has failed, so that what it was writing is to be fenced off by a session with a higher term.</summary>
    public bool HasFailed { get; private set; }

    /// <summary>After where the spool is needed, for the stream and for tables beside it.</summary>
    public LogPosition? NeededAfter =>
        session.Progress.NeededAfter is { } needed && load is { } going
            ? LogPosition.Min(needed, going.Since)
            : session.Progress.NeededAfter;

    /// <summary>Tables that could not be loaded in an earlier session are held now that nothing of it is on its way.</summary>
    public async Task BeginAsync(CancellationToken cancellation)
    {
        if (pauses.TakeHeld(session.Progress) is { Count: > 0 } held)
        {
            await session.SaveAsync(new ProgressUpdate(null, held), cancellation);
            await LookAsync();
        }
    }

    /// <summary>
    /// Does what is next: begins a load, takes over what was loaded, applies some changes. True when tables have joined the stream, so
    /// that its next batch is to be gathered again.
    /// </summary>
    public async Task<bool> StepAsync(CancellationToken cancellation)
    {
        await TakeLoadedAsync();
        await LookAsync();
        await ReloadHeldAsync(cancellation);
        if (load is null && missing.Count > 0 && pauses.AreOver && !HasFailed)
        {
            load = new LoadRun(context, session, ends, missing, Ended);
        }

        var anew = await RewindAsync(cancellation);
        return (apart.Count > 0 && await CatchUpAsync(cancellation)) || anew;
    }

    /// <summary>Applies changes again, where that is asked. True when tables have left the stream.</summary>
    private async Task<bool> RewindAsync(CancellationToken cancellation)
    {
        rewinding ??= new RewindRun(context, session, ends, ended);
        if (!rewinding.IsGoingOn)
        {
            return false;
        }

        var changed = await rewinding.StepAsync(cancellation);
        known = changed ? null : known;
        await LookAsync();
        return changed;
    }

    /// <summary>Ends the load that goes on; its tables are loaded another time. Applies what tables apart lack to the end.</summary>
    public async Task EndAsync(CancellationToken cancellation)
    {
        await DisposeAsync();
        await TakeLoadedAsync();
        known = null;
        await LookAsync();
        while (apart.Count > 0)
        {
            await CatchUpAsync(cancellation);
        }
    }

    public async ValueTask DisposeAsync()
    {
        if (load is { } going)
        {
            await going.DisposeAsync();
            context.State.LoadsBeside(null);
        }

        await (rewinding?.LeaveAsync() ?? Task.CompletedTask);
    }

    /// <summary>Looked for only where the progress has changed: there may be many tables.</summary>
    private async Task LookAsync()
    {
        if (ReferenceEquals(known, session.Progress.Tables))
        {
            return;
        }

        known = session.Progress.Tables;
        await notices.TellHeldAsync(session.Progress, context.State.IsHeld);
        context.State.Take(session.Progress);
        var mine = known.Where(table => !table.Held && !table.IsInStream && context.Definition.Tables.Takes(table.Table)).ToList();
        missing = [.. mine.Where(table => !table.Loaded).Select(table => table.Table)];
        apart = [.. mine.Where(table => table.Loaded && rewinding?.Holds(table.Table) != true)];
        again = [.. known.Where(table => table is { Held: true, Loaded: true } && IsReloadedByItself(table.Table))];
    }

    /// <summary>One that could not be loaded is held as well, and is not loaded: a person has to see to it.</summary>
    private bool IsReloadedByItself(TableName table) =>
        context.Definition.ReloadsOnSchemaChange(table)
        && context.Definition.Tables.Takes(table)
        && context.Treating.IsReplaceable(table)
        && !context.Treating.IsMasked(table);

    private async Task ReloadHeldAsync(CancellationToken cancellation)
    {
        if (again.Count == 0 || again.Where(table => pauses.MayReload(table.Table)).ToList() is not { Count: > 0 } due)
        {
            return;
        }

        var names = due.ConvertAll(table => table.Table);
        names.ForEach(pauses.Reloads);
        await session.SaveAsync(new ProgressUpdate(null, [.. due.Select(table => table.Anew())]), cancellation);
        await context.Quarantine.DropAsync(names, cancellation);
        await context.Verdicts.ForgetAsync(names, cancellation);
        await LookAsync();
        await context.Events.OfCrossingAsync(
            context.Crossing,
            EventKind.Note,
            $"Loaded again automatically: {string.Join(", ", names)}."
        );
    }

    private async Task TakeLoadedAsync()
    {
        if (load is not { } going)
        {
            return;
        }

        // Asked first: what it writes until then is seen below.
        var isOver = going.Running.IsCompleted;
        if (going.Written(session.Progress) is { Count: > 0 } written)
        {
            session.Learn(written);
        }

        if (isOver)
        {
            load = null;
            context.State.LoadsBeside(null);
            await TellAsync(going);
            await going.DisposeAsync();
        }
    }

    private async Task TellAsync(LoadRun ended)
    {
        switch (ended.Failure)
        {
            case null:
                pauses.Succeeded();
                break;
            case var failure when WorkerTroubles.MayPass(failure):
                HasFailed = true;
                pauses.Failed();
                await context.Events.OfCrossingAsync(context.Crossing, EventKind.Warning, $"A load waits: {failure.Message}");
                break;
            case RowRefusedException refused when ended.Tables.Contains(refused.Table):
                HasFailed = true;
                pauses.Hold([refused.Table], refused);
                break;
            case var failure:
                HasFailed = true;
                pauses.Hold(ended.Tables, failure);
                break;
        }
    }

    private async Task<bool> CatchUpAsync(CancellationToken cancellation)
    {
        var end = session.Progress.Position!.Value;
        if (apart.Where(table => !spool.Contains(table.Reached!.Value)).ToList() is { Count: > 0 } lost)
        {
            // The spool was emptied, or is another: they are loaded again.
            await session.SaveAsync(new ProgressUpdate(null, [.. lost.Select(table => table.Anew())]), cancellation);
            await LookAsync();
            return false;
        }

        // Others may be loaded meanwhile: they have not come to the end yet.
        var together = apart.Select(table => table.Table).ToHashSet();
        var behind = apart.Where(table => table.Reached < end).ToList();
        if (behind.Count > 0 && !await new TableCatchUp(session, context, ends).StepAsync(behind, end, cancellation))
        {
            await LookAsync();
            return false;
        }

        await JoinAsync(together, cancellation);
        return true;
    }

    /// <summary>These have reached the stream, or are ahead of it; some may have been held on the way.</summary>
    private async Task JoinAsync(HashSet<TableName> tables, CancellationToken cancellation)
    {
        await LookAsync();
        List<TableProgress> joining = [.. apart.Where(table => tables.Contains(table.Table))];
        await session.SaveAsync(
            new ProgressUpdate(null, [.. joining.Select(table => table with { Reached = null, AgreedUpTo = null })]),
            cancellation
        );
        await LookAsync();
    }
}
