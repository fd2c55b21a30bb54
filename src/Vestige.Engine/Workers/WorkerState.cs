using System.Collections.Immutable;
using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Following;
using Vestige.Engine.Loading;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Workers;

/// <summary>What a worker is doing, written by the worker and looked at from any thread.</summary>
internal sealed class WorkerState
{
    private readonly Lock gate = new();
    private ILoad? load;
    private BatchGatherer? gatherer;
    private Batch? inHand;
    private DateTimeOffset inHandSince;
    private long inHandChanges;
    private ImmutableDictionary<TableName, TableProgress> tables = ImmutableDictionary<TableName, TableProgress>.Empty;
    private LogPosition? applied;
    private (LogPosition? Position, bool Known) found;
    private SpooledPosition? spooled;
    private CrossingFault? fault;
    private CrossingFault? waiting;
    private bool following;
    private bool ended;

    /// <summary>A picture of this moment.</summary>
    public WorkerView View
    {
        get
        {
            lock (gate)
            {
                var oldest = inHand?.Fragments[0].CommittedAt ?? gatherer?.OldestWaiting;
                return new WorkerView(
                    ended,
                    fault,
                    waiting,
                    following,
                    load,
                    applied,
                    oldest,
                    tables,
                    spooled,
                    inHand is null ? null : new InHand(inHandSince, inHandChanges, inHand.Large)
                );
            }
        }
    }

    /// <summary>When the oldest transaction was committed that is read and not applied; null when there is none.</summary>
    public DateTimeOffset? OldestInHand
    {
        get
        {
            lock (gate)
            {
                return inHand?.Fragments[0].CommittedAt ?? gatherer?.OldestWaiting;
            }
        }
    }

    public LogPosition? Applied
    {
        get
        {
            lock (gate)
            {
                return applied;
            }
        }
    }

    /// <summary>The position at which the target was found; null before a first load, and until it was asked.</summary>
    public LogPosition? Found
    {
        get
        {
            lock (gate)
            {
                return found.Position;
            }
        }
    }

    public bool IsHeld(TableName table)
    {
        lock (gate)
        {
            return tables[table].Held;
        }
    }

    /// <summary>Takes a batch in hand; false when it goes beyond the mark at which the crossing was asked to stop meanwhile.</summary>
    public bool TryTake(Batch batch, Steering steering, DateTimeOffset now)
    {
        lock (gate)
        {
            if (steering.Request?.Mark is { } mark && batch.IsBeyond(mark))
            {
                return false;
            }

            (inHand, inHandSince) = (batch, now);
            inHandChanges = batch.Fragments.Sum(fragment => (long)fragment.Count);
            return true;
        }
    }

    /// <summary>Asks for a stop at a mark; false, and nothing is asked, when what is applied or in hand goes beyond it.</summary>
    public bool TryStop(Steering steering, StopMark mark)
    {
        lock (gate)
        {
            if (applied > mark.Position || inHand?.IsBeyond(mark) == true)
            {
                return false;
            }

            steering.Stop(new StopRequest(StopMode.Drain, mark));
            return true;
        }
    }

    /// <summary>So much of a large transaction has been read.</summary>
    public void SetInHandChanges(long changes)
    {
        lock (gate)
        {
            inHandChanges = changes;
        }
    }

    /// <summary>It loads; null when the load is done.</summary>
    public void Loads(ILoad? loading)
    {
        lock (gate)
        {
            load = loading;
            waiting = null;
        }
    }

    /// <summary>It loads beside the stream; null when the load has ended.</summary>
    public void LoadsBeside(ILoad? loading)
    {
        lock (gate)
        {
            load = loading;
        }
    }

    public void Follows(BatchGatherer mine)
    {
        lock (gate)
        {
            gatherer = mine;
            following = true;
            waiting = null;
        }
    }

    /// <summary>It waits for something to be repaired; true when it did not wait for the same before.</summary>
    public bool Waits(string what, string? remedy, DateTimeOffset now, TimeSpan pause)
    {
        lock (gate)
        {
            var isNew = waiting?.What != what;
            following = false;
            load = null;
            gatherer = null;
            waiting = new CrossingFault(what, remedy, waiting?.Since ?? now) { NextAttempt = now + pause };
            return isNew;
        }
    }

    public void Faulted(CrossingFault cause)
    {
        lock (gate)
        {
            fault = cause;
        }
    }

    public void Ended()
    {
        lock (gate)
        {
            ended = true;
            load = null;
            gatherer = null;
            inHand = null;
            waiting = null;
        }
    }

    /// <summary>What the target now holds.</summary>
    public void Take(TargetProgress progress)
    {
        lock (gate)
        {
            applied = progress.Position;
            found = found.Known ? found : (applied, true);
            if (
                progress.Tables.Count != tables.Count
                || !progress.Tables.All(table => tables.TryGetValue(table.Table, out var known) && known == table)
            )
            {
                tables = progress.Tables.ToImmutableDictionary(table => table.Table);
            }
        }
    }

    /// <summary>Keeps the spool's counts at the applied position; a large transaction's are not known here.</summary>
    public void SetPlace(Batch batch)
    {
        var last = batch.Fragments[^1];
        lock (gate)
        {
            spooled = batch.Large ? null : new SpooledPosition(last.Position, last.Transactions, last.TotalChanges, null);
        }
    }

    public void SetInHand(Batch? batch)
    {
        lock (gate)
        {
            inHand = batch;
        }
    }
}
