using Vestige.Core.Positions;
using Vestige.Engine.Faults;
using Vestige.Engine.Following;
using Vestige.Engine.Loading;
using Vestige.Engine.Ports;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Shapes;

/// <summary>
/// One worker's hold on a target, in the shape in which that takes changes. What a shape cannot do it leaves out, and the worker need not
/// know which it is. After any exception it is finished: open another. Used by one caller at a time.
/// </summary>
internal interface ITargetWork : IAsyncDisposable
{
    /// <summary>How far the crossing is.</summary>
    IProgressSession Session { get; }

    /// <summary>The two systems, as routes name them; set before anything is written.</summary>
    RouteEnds? Ends { get; set; }

    /// <summary>A load into it, while nothing else is done.</summary>
    ILoad NewLoad();

    /// <summary>Whether tables can be loaded while changes of others are applied; else those wait meanwhile.</summary>
    bool LoadsBeside => false;

    /// <summary>What loads tables beside the stream; only where <see cref="LoadsBeside"/>.</summary>
    TablesBeside NewBeside(LoadPauses pauses, AsideNotices notices) =>
        throw new NotSupportedException("Tables are loaded while nothing else is done.");

    /// <summary>Takes loaded tables back to a position in the past; only where rows are loaded as of one.</summary>
    Task BringAsOfAsync(LogPosition asOf, CancellationToken cancellation) =>
        throw new PortException("This target does not take rows back.") { Remedy = "Choose a database as the target." };

    /// <summary>By what its tables are changed between two rows; null where they are not.</summary>
    ISchemaEditor? Editor => null;

    /// <summary>Makes the batches that it takes.</summary>
    IBatchBuilder NewBuilder(ChangeRouter router);

    /// <summary>
    /// Applies a batch while the next is gathered. True when that one must be gathered again, since rows went into quarantine.
    /// </summary>
    Task<bool> ApplyAsync(Batch batch, Gathering gathering, CancellationToken cancellation);

    /// <summary>
    /// Does what is to be done between two batches, as repairing rows. True when the next batch must be gathered again.
    /// </summary>
    Task<bool> BesideAsync(CancellationToken cancellation);

    /// <summary>Ends a crossing whose rows come once: builds what stands on all tables together, where there is such.</summary>
    Task SettleAsync(CancellationToken cancellation);

    /// <summary>
    /// What the call that continues waits for, as the target says; null when it says nothing, or cannot be asked. From any thread.
    /// </summary>
    Task<string?> WhyWaitingAsync(CancellationToken cancellation);
}
