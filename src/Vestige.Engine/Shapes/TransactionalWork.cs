using Vestige.Core.Positions;
using Vestige.Engine.Following;
using Vestige.Engine.Loading;
using Vestige.Engine.Ports;
using Vestige.Engine.Quarantining;
using Vestige.Engine.Reconciling;
using Vestige.Engine.Rewinding;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Shapes;

/// <summary>Folded batches, each written with its progress in one transaction; refused rows can wait, and rows be repaired.</summary>
internal sealed class TransactionalWork : ITargetWork
{
    private readonly SharedSession session;
    private readonly WorkerContext context;
    private readonly ConstraintBuilder constraints;
    private readonly QuarantineTry trying;
    private readonly RepairRun repairing;

    public TransactionalWork(ITargetSession own, WorkerContext context, TableSync sync)
    {
        (session, this.context) = (new SharedSession(own), context);
        constraints = new ConstraintBuilder(session, context, sync);
        trying = new QuarantineTry(context.Quarantine, context.Treating, context.Events, context.Clock);
        repairing = new RepairRun(
            context.Treating,
            context.Source,
            context.Target,
            context.Capture.Spool,
            context.Quarantine,
            context.Repairs
        );
    }
    public IProgressSession Session => session;

    public RouteEnds? Ends { get; set; }

    public ILoad NewLoad() =>
        new InitialLoad(context.Source, context.Target, session, context.Capture, context.Treating, Ends!, context.Clock);

    public bool LoadsBeside => true;

    public TablesBeside NewBeside(LoadPauses pauses, AsideNotices notices) => new(context, session, Ends!, pauses, notices);

    public Task BringAsOfAsync(LogPosition asOf, CancellationToken cancellation) =>
        new RowsAsOf(context, session, Ends!.OfRows).BringAsync(asOf, cancellation);

    public ISchemaEditor? Editor => context.Target.Find<ISchemaEditor>();

    public IBatchBuilder NewBuilder(ChangeRouter router) => new FoldedBatchBuilder(context.Capture.Spool, router);

    public async Task<bool> ApplyAsync(Batch batch, Gathering gathering, CancellationToken cancellation)
    {
        var applier = new BatchApplier(session, context) { Ends = Ends! };
        if (batch.Large)
        {
            return await applier.ApplyLargeAsync(batch, gathering.Gatherer, gathering.Router, cancellation);
        }

        _ = gathering.Next;
        return await applier.ApplyAsync(batch, cancellation);
    }

    public async Task<bool> BesideAsync(CancellationToken cancellation)
    {
        await constraints.BesideAsync(cancellation);
        await repairing.RunAsync(session, cancellation);
        return trying.IsDue && await trying.RunAsync(session, cancellation);
    }

    public Task SettleAsync(CancellationToken cancellation) => constraints.TogetherAsync(cancellation);

    public Task<string?> WhyWaitingAsync(CancellationToken cancellation) => session.WhyWaitingAsync(cancellation);

    public ValueTask DisposeAsync() => session.DisposeAsync();
}
