using Vestige.Engine.Ports;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Shapes;

/// <summary>Opens a target in the richest shape that it can.</summary>
internal static class TargetWorks
{
    /// <summary>Takes the crossing over for the worker with that term; throws as <see cref="IProgressStore.OpenProgressAsync"/>.</summary>
    public static async Task<ITargetWork> OpenAsync(WorkerContext context, TableSync sync, long term, CancellationToken cancellation)
    {
        var (target, crossing) = (context.Target, context.Crossing);
        if (target.Find<ITableTarget>() is { } tables)
        {
            return new TransactionalWork(await tables.OpenSessionAsync(crossing, term, cancellation), context, sync);
        }

        if (target.Find<IChangeSink>() is { } changes)
        {
            return await OrderedWork.OpenAsync(changes, context, term, cancellation);
        }

        var progress = await target.Progress.OpenProgressAsync(crossing, term, cancellation);
        return progress is TableSinkSession session
            ? new TableByTableWork(session, context)
            : throw new InvalidOperationException($"{context.Definition.Target} takes changes in no shape that is known.");
    }
}
