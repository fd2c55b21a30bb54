using Vestige.Engine.Following;
using Vestige.Engine.Loading;
using Vestige.Engine.Ports;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Shapes;

/// <summary>
/// Transactions in the order of the log, and the progress after them.
///
/// Invariants:
/// 1. The position is written only after everything up to it is durable at the sink: nothing is ever left out.
/// 2. It is written only at the end of a transaction. So what is written again after a failure begins with a whole transaction, and each
///    change of it has the ordinal, and with it the identifier, that it had before.
/// 3. A worker whose term is over can write neither to the sink nor the position.
/// </summary>
internal sealed class OrderedWork : ITargetWork
{
    private readonly IChangeWriter writer;
    private readonly WorkerContext context;

    private OrderedWork(IChangeWriter writer, IProgressSession progress, WorkerContext context)
    {
        (this.writer, this.context) = (writer, context);
        Session = progress;
    }

    public static async Task<OrderedWork> OpenAsync(IChangeSink sink, WorkerContext context, long term, CancellationToken cancellation)
    {
        var progress = await context.Target.Progress.OpenProgressAsync(context.Crossing, term, cancellation);
        try
        {
            return new OrderedWork(await sink.OpenWriterAsync(context.Crossing, term, cancellation), progress, context);
        }
        catch
        {
            await progress.DisposeAsync();
            throw;
        }
    }

    public IProgressSession Session { get; }

    public RouteEnds? Ends { get; set; }

    public ILoad NewLoad() => new SinkLoad(context, writer, Session);

    public IBatchBuilder NewBuilder(ChangeRouter router) => new OrderedBatchBuilder(context.Capture.Spool, router);

    public async Task<bool> ApplyAsync(Batch batch, Gathering gathering, CancellationToken cancellation)
    {
        var report = new BatchReporter(context);
        _ = gathering.Next;
        await writer.WriteAsync(batch.Ordered, cancellation);
        if (batch.Update is { } update && (update.Position is not null || update.Tables.Count > 0))
        {
            await Session.SaveAsync(update, cancellation);
        }

        report.Of(batch.Fragments, batch.Tallies, batch.Treating);
        return false;
    }

    public Task<bool> BesideAsync(CancellationToken cancellation) => Task.FromResult(false);

    public Task SettleAsync(CancellationToken cancellation) => Task.CompletedTask;

    public Task<string?> WhyWaitingAsync(CancellationToken cancellation) => Task.FromResult<string?>(null);

    public async ValueTask DisposeAsync()
    {
        await writer.DisposeAsync();
        await Session.DisposeAsync();
    }
}
