using Vestige.Core.Changes;
using Vestige.Core.Expressions;
using Vestige.Core.Folding;
using Vestige.Core.Positions;
using Vestige.Core.Routes;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Core.Treatments;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Following;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Rewinding;

// Changes of a table after a position p are applied again, as when others have changed its rows on the target.
//
//  1. The table is apart from the stream, at C (TablesBeside): it is to hold what was committed at C or before, and nothing else is applied
//     to it until it was written again.
//  2. For each key that the log names between p and C, the last change says whether its row is there at C, and what it holds. That is what
//     is written: the row, whatever the target has of it, or a delete. Earlier values of it are not written, so that none meets
//     a unique value of another row which it had only then.
//  3. So each transaction of it leaves the table at C, as a whole or not: where the target was as it should be, it changes nothing. What is
//     interrupted is not taken back; it begins again, at the C of then.
//  4. A row stays as it is where a change of it waits in quarantine, or where a person has decided that it differs from the source's.
//  5. It is refused where 2 does not hold: where the table was truncated or its schema changed between; and where a row on the target is
//     made of more than the source's row as it is: where history is kept, or when a row was changed, or several are made of one.

/// <summary>Applies changes of tables again that were applied before. Used by the crossing's worker, between two batches.</summary>
/// <param name="context">What the worker works with.</param>
/// <param name="session">The hold on the target.</param>
/// <param name="ends">The two systems.</param>
/// <param name="ready">Beats when there is something to write.</param>
internal sealed class RewindRun(WorkerContext context, ITargetSession session, RouteEnds ends, AsyncSignal ready) : IAsyncDisposable
{
    private readonly Spool spool = context.Capture.Spool;
    private readonly Queue<TableName> waiting = [];
    private readonly List<string> said = [];
    private Rewind? order;
    private TableRewind? inHand;

    /// <summary>Whether something is to be applied again.</summary>
    public bool IsGoingOn => order is not null || context.Rewinds.Pending is not null;

    /// <summary>Whether a table is still to be written again, so that nothing else is applied to it.</summary>
    public bool Holds(TableName table) => inHand?.Table.Table == table || waiting.Contains(table);

    /// <summary>Does what is next. True when tables were set apart, or need not be any more.</summary>
    public async Task<bool> StepAsync(CancellationToken cancellation)
    {
        var pending = context.Rewinds.Pending;
        if (order is null)
        {
            return pending is not null && await BeginAsync(pending, cancellation);
        }

        if (!ReferenceEquals(pending, order))
        {
            await LeaveAsync();
            return true;
        }

        return inHand is null ? await NextAsync(cancellation) : await WriteAsync(inHand, cancellation);
    }

    /// <summary>Leaves what it does, so that tables apart can come to the stream. It begins again with the next step.</summary>
    public async Task LeaveAsync()
    {
        await (inHand?.DisposeAsync() ?? ValueTask.CompletedTask);
        (order, inHand) = (null, null);
        waiting.Clear();
        said.Clear();
    }

    public async ValueTask DisposeAsync() => await LeaveAsync();

    /// <summary>Sets its tables apart from the stream, where they are in it.</summary>
    private async Task<bool> BeginAsync(Rewind pending, CancellationToken cancellation)
    {
        var stream = session.Progress.Position!.Value;
        order = pending;
        if (pending.From.Branch != stream.Branch || !spool.Contains(pending.From))
        {
            said.Add("the spool does not hold the changes since then any more.");
            await EndAsync(cancellation);
            return false;
        }

        spool.Retain(RewindService.HolderOf(context.Crossing), stream, pending.From);
        var known = session.Progress.Tables.ToDictionary(table => table.Table);
        var leaving = new List<TableProgress>();
        foreach (var name in pending.Tables)
        {
            if (!context.Definition.Tables.Takes(name) || known.GetValueOrDefault(name) is not { Loaded: true, Held: false } table)
            {
                said.Add($"{name} is held, is being loaded, or has left the crossing, and was not applied again.");
            }
            else
            {
                waiting.Enqueue(name);
                leaving.AddRange(table.IsInStream && table.Position <= stream ? [table with { Reached = stream }] : []);
            }
        }

        await session.SaveAsync(new ProgressUpdate(null, leaving), cancellation);
        return true;
    }

    /// <summary>The next table; the end, where there is none. True when nothing is held any more.</summary>
    private async Task<bool> NextAsync(CancellationToken cancellation)
    {
        while (waiting.TryDequeue(out var name))
        {
            // One that has been taken for something else meanwhile is left to that.
            if (session.Progress.Tables.FirstOrDefault(one => one.Table == name) is { Loaded: true, Held: false, Reached: { } } table)
            {
                inHand = new TableRewind(context, table, order!.From, ends, ready);
                return false;
            }

            said.Add($"{name} is not in step with the others yet, and was not applied again.");
        }

        await EndAsync(cancellation);
        return true;
    }

    /// <summary>Writes what has been read, if it has. True when that was all of its table.</summary>
    private async Task<bool> WriteAsync(TableRewind table, CancellationToken cancellation)
    {
        if (!table.IsReady)
        {
            return false;
        }

        try
        {
            if (await table.WriteAsync(session, cancellation))
            {
                return false;
            }

            said.Add(table.Words);
        }
        catch (Exception exception) when (exception is RowRefusedException or PortException { Transient: false } and not FencedException)
        {
            said.Add($"{table.Table.Table} was not applied again to the end: {exception.Message}");
        }

        await table.DisposeAsync();
        inHand = null;
        return true;
    }

    private async Task EndAsync(CancellationToken cancellation)
    {
        var text = $"Applied again from position {context.Source.Log.Format(order!.From)}: {string.Join(" ", said)}";
        // Told first: who sees that nothing is pending any more finds what was done.
        await context.Events.OfCrossingAsync(context.Crossing, EventKind.Warning, text, order.By);
        await context.Rewinds.EndAsync(order, cancellation);
        spool.Release(RewindService.HolderOf(context.Crossing));
        await LeaveAsync();
    }
}
