using Vestige.Engine.Reconciling;

namespace Vestige.Engine.Ports;

/// <summary>Where comparisons, what they say of tables, and repairs are kept. Rows are kept encrypted. Safe for several threads.</summary>
public interface IReconciliationStore
{
    /// <summary>Keeps a comparison, instead of one of the same id.</summary>
    Task SaveAsync(Reconciliation reconciliation, CancellationToken cancellation);

    /// <summary>The comparisons of a crossing, the latest first, without their segments and rows.</summary>
    Task<IReadOnlyList<Reconciliation>> ListAsync(string crossing, int most, CancellationToken cancellation);

    /// <summary>A comparison with all that was found; null when there is none of that id.</summary>
    Task<Reconciliation?> FindAsync(string crossing, string id, CancellationToken cancellation);

    /// <summary>Those that run by what is kept have ended with their process.</summary>
    Task CloseAsync(CancellationToken cancellation);

    Task<IReadOnlyList<Verdict>> VerdictsAsync(string crossing, CancellationToken cancellation);

    /// <summary>Keeps what comparing says of tables, each instead of what it said before.</summary>
    Task SaveAsync(string crossing, IReadOnlyList<Verdict> verdicts, CancellationToken cancellation);

    /// <summary>Forgets what was said of tables; of all where none are named.</summary>
    Task ForgetVerdictsAsync(string crossing, IReadOnlyList<Core.Schemas.TableName>? tables, CancellationToken cancellation);

    /// <summary>Keeps a repair, instead of one of the same id.</summary>
    Task SaveAsync(Repair repair, CancellationToken cancellation);

    /// <summary>The repairs of a crossing, the latest first.</summary>
    Task<IReadOnlyList<Repair>> RepairsAsync(string crossing, int most, CancellationToken cancellation);
}
