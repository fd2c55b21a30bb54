using Vestige.Core.Folding;
using Vestige.Core.Positions;
using Vestige.Engine.Faults;
using Vestige.Engine.Following;
using Vestige.Engine.Loading;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Shapes;

/// <summary>
/// Folded batches, written one table after the other, each with its own progress; then the progress of the crossing
/// (<see cref="TableSinkSession"/>). Where a worker dies between two tables, the next one finds some of them further than the crossing.
/// </summary>
internal sealed class TableByTableWork(TableSinkSession session, WorkerContext context) : ITargetWork
{
    private readonly Spool spool = context.Capture.Spool;

    public IProgressSession Session => session;

    public RouteEnds? Ends { get; set; }

    public ILoad NewLoad() => new SinkLoad(context, session.Writer, session);

    public IBatchBuilder NewBuilder(ChangeRouter router) => new FoldedBatchBuilder(spool, router);

    public async Task<bool> ApplyAsync(Batch batch, Gathering gathering, CancellationToken cancellation)
    {
        var report = new BatchReporter(context);
        var whole = batch.Large ? await GatherAsync(batch, gathering, cancellation) : batch;
        if (!batch.Large)
        {
            _ = gathering.Next;
        }

        var update = whole.Update;
        foreach (var folded in Folded(whole))
        {
            if (folded.Rows.Count > 0 || folded.EmptiedFirst)
            {
                await ApplyAsync(folded, whole, update.Position!.Value, cancellation);
            }
        }

        await session.SaveAsync(update, cancellation);
        report.Of(whole.Fragments, whole.Tallies, whole.Treating);
        return false;
    }

    public Task<bool> BesideAsync(CancellationToken cancellation) => Task.FromResult(false);

    public Task SettleAsync(CancellationToken cancellation) => Task.CompletedTask;

    public Task<string?> WhyWaitingAsync(CancellationToken cancellation) => Task.FromResult<string?>(null);

    public ValueTask DisposeAsync() => session.DisposeAsync();

    /// <summary>A table that is held by a change within the batch has its rows up to there, and is held at that position.</summary>
    private async Task ApplyAsync(FoldedTable folded, Batch batch, LogPosition end, CancellationToken cancellation)
    {
        var source = batch.Owners[folded.Table.Name].Source;
        var table = batch.TablesAfter[source];
        var moved = table.Held ? table : table with { Position = end, Log = spool.Branches[end.Branch].Identity };
        try
        {
            await session.Writer.ApplyAsync(folded, moved, cancellation);
        }
        catch (RowRefusedException exception) when (exception.Table == folded.Table.Name)
        {
            throw exception.Of(source);
        }

        session.Wrote(moved);
    }

    private static IReadOnlyList<FoldedTable> Folded(Batch batch) =>
        batch.Folded
        ?? throw new PortException(
            "Changes cannot be folded: the log left out values that did not change, or the treatment has no value for a row."
        )
        {
            Remedy = "Let the source log whole rows of the table; or see in the treatment's preview which rows have no value.",
        };

    /// <summary>A large transaction is one batch: what it leaves of each row is held in memory, up to a size.</summary>
    private async Task<Batch> GatherAsync(Batch head, Gathering gathering, CancellationToken cancellation)
    {
        const long Most = 256L << 20;
        var builder = new FoldedBatchBuilder(spool, gathering.Router);
        var (fragments, bytes, changes) = (new List<SpooledFragment>(), 0L, 0L);
        await foreach (var part in gathering.Gatherer.FragmentsAsync(cancellation))
        {
            bytes += part.Changes.Length;
            if (bytes > Most)
            {
                throw new PortException($"A transaction at {part.Position} is larger than what can be written in one step of each table.")
                {
                    Remedy = "Load the tables again beyond it.",
                };
            }

            builder.TryAdd(part);
            fragments.Add(part with { Changes = default });
            changes += part.Count;
            context.State.SetInHandChanges(changes);
        }

        return builder.Build(fragments, head.TablesBefore, TimeSpan.Zero);
    }
}
