using System.Collections.Immutable;
using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Engine.Ports;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Following;

/// <summary>Applies to tables that were loaded beside the stream what the log has of them up to where the stream is.</summary>
internal sealed class TableCatchUp(ITargetSession session, WorkerContext context, RouteEnds ends)
{
    private const int BatchBytes = 4 << 20;

    /// <summary>More than the stream takes at a time, so that they come closer; few, since it waits meanwhile.</summary>
    private const int BatchesPerStep = 2;

    /// <summary>Takes one step. True when they have reached the end.</summary>
    /// <param name="tables">The tables, none of them beyond the end.</param>
    /// <param name="end">The position of the stream.</param>
    /// <param name="cancellation">Gives up.</param>
    public async Task<bool> StepAsync(IReadOnlyList<TableProgress> tables, LogPosition end, CancellationToken cancellation)
    {
        var apart = new ApartSession(session, tables);
        var spool = context.Capture.Spool;
        var router = new ChangeRouter(
            spool,
            context.Treating,
            new SkippedRows(context.Quarantine, context.Clock),
            apart.Progress.Tables.ToImmutableDictionary(table => table.Table)
        )
        {
            Target = ends.Target,
            Editor = context.Target.Find<ISchemaEditor>(),
            Since = apart.Progress.Position,
        };
        var gatherer = new BatchGatherer(
            spool,
            spool.ReadAfter(apart.Progress.Position!.Value, withinBranch: true),
            new FoldedBatchBuilder(spool, router),
            context.Clock,
            BatchBytes
        )
        {
            Mark = new StopMark(end),
        };
        for (var i = 0; i < BatchesPerStep; i++)
        {
            if (await gatherer.NextAsync(cancellation) is not { } batch)
            {
                return true;
            }

            var applier = new BatchApplier(apart, context, apart: true) { Ends = ends };
            var aside = batch.Large
                ? await applier.ApplyLargeAsync(batch, gatherer, router, cancellation)
                : await applier.ApplyAsync(batch, cancellation);
            if (aside)
            {
                // What was gathered does not know of the rows that are passed over from now on.
                return false;
            }
        }

        return false;
    }
}
