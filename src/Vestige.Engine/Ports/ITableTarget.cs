using Vestige.Core.Changes;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;

namespace Vestige.Engine.Ports;

/// <summary>
/// A target of tables that writes rows and progress in one transaction. Safe for several threads; the sessions it opens are not.
/// </summary>
public interface ITableTarget : ITarget, IProgressStore
{
    /// <inheritdoc/>
    Delivery ITarget.Delivery => Delivery.ExactlyOnce;

    /// <summary>The engines' own forms of rows that it takes as they are when loading.</summary>
    IReadOnlySet<string> TakenForms { get; }

    /// <summary>
    /// The forms that the tables of some treatments get here, in their order, with keys, indexes and the references among them.
    /// The treatments were made from forms as a source of this engine has them in its catalogue.
    /// </summary>
    TargetStructure StructureOf(IReadOnlyList<TableTreatment> treatments);

    /// <summary>The statements that would create these tables, as they would run; forms as <see cref="StructureOf"/> gives them.</summary>
    IReadOnlyList<StructureStatement> StructureFor(IReadOnlyList<TableSchema> tables);

    /// <summary>The statement by which a change is written, with marks where its values go.</summary>
    string StatementFor(TableSchema table, RowChange change);

    /// <summary>
    /// Takes the crossing over for the worker with that term. Workers with lower terms cannot write from then on. Throws
    /// <see cref="Faults.FencedException"/> when a higher term was here before.
    /// </summary>
    Task<ITargetSession> OpenSessionAsync(string crossing, long term, CancellationToken cancellation);

    /// <inheritdoc/>
    async Task<IProgressSession> IProgressStore.OpenProgressAsync(string crossing, long term, CancellationToken cancellation) =>
        await OpenSessionAsync(crossing, term, cancellation);
}
