using Vestige.Core.Routes;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Ports;

/// <summary>
/// One worker's hold on a target that writes rows and progress in one transaction. After any exception but a refused row the session is
/// finished: open another, which says what was committed. Used by one caller at a time.
/// </summary>
public interface ITargetSession : IProgressSession
{
    /// <inheritdoc/>
    async Task IProgressSession.SaveAsync(ProgressUpdate update, CancellationToken cancellation)
    {
        await using var transaction = await BeginAsync(checkReferences: false, cancellation);
        await transaction.CommitAsync(update, cancellation);
    }

    /// <summary>
    /// Begins a transaction. Throws <see cref="Faults.FencedException"/> when another worker has taken over or the position
    /// is not the expected one.
    /// </summary>
    /// <param name="checkReferences">Whether foreign keys are to hold at the commit; not while tables stand at different positions.</param>
    /// <param name="route">
    /// Where its rows come from, for whoever reads the target's log; none where they begin a new one, as what a person edits or
    /// repairs does. A target that cannot tell it says so when it is checked.
    /// </param>
    /// <param name="cancellation">Gives up waiting.</param>
    Task<ITargetTransaction> BeginAsync(bool checkReferences, Route route, CancellationToken cancellation);

    /// <summary>Begins a transaction whose rows, if it writes any, begin a new route.</summary>
    Task<ITargetTransaction> BeginAsync(bool checkReferences, CancellationToken cancellation) =>
        BeginAsync(checkReferences, Route.None, cancellation);

    /// <summary>
    /// What the call that continues waits for, as the target says when it is asked beside it, such as a lock held by another session;
    /// null when it says nothing. From any thread.
    /// </summary>
    Task<string?> WhyWaitingAsync(CancellationToken cancellation);

    /// <summary>
    /// Another hold of the same worker, that writes rows of a load beside this one and others. It is fenced by the worker's term,
    /// and neither moves nor expects a position, so that this one can go on applying changes. Null when the target lets only one
    /// write at a time.
    /// </summary>
    Task<ITargetSession?> OpenBesideAsync(CancellationToken cancellation);

    /// <summary>Takes over what a session beside this one has written about tables.</summary>
    void Learn(IReadOnlyList<TableProgress> tables);

    /// <summary>
    /// Builds the keys and indexes that a loaded table still lacks. Called after its rows and before any change of it is
    /// applied; repeated after a crash.
    /// </summary>
    Task BuildKeysAsync(TableSchema table, CancellationToken cancellation);

    /// <summary>
    /// Builds only the primary key, if it is missing: by it the rows are found of a load that continues. Other unique values need
    /// not hold before the load ends.
    /// </summary>
    Task BuildPrimaryKeyAsync(TableSchema table, CancellationToken cancellation);

    /// <summary>
    /// Builds the references among loaded tables that are still missing. Called when all tables stand at one position;
    /// repeated after a crash.
    /// </summary>
    Task BuildReferencesAsync(IReadOnlyList<TableSchema> tables, CancellationToken cancellation);
}
