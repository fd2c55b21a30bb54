using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Readiness;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;

namespace Vestige.Engine.Ports;

/// <summary>A system of tables that can be written. Safe for several threads; the sessions it opens are not.</summary>
public interface ITableTarget
{
    /// <summary>The engines' own forms of rows that it takes as they are when loading.</summary>
    IReadOnlySet<string> TakenForms { get; }

    /// <summary>The name that a source's table gets here if nothing else is said.</summary>
    TableName NameFor(TableName source);

    /// <summary>
    /// The forms that the tables of some treatments get here, in their order, with keys, indexes and the references among them.
    /// The treatments were made from forms as a source of this engine has them in its catalogue.
    /// </summary>
    TargetStructure StructureOf(IReadOnlyList<TableTreatment> treatments);

    /// <summary>The statements that would create these tables, as they would run; forms as <see cref="StructureOf"/> gives them.</summary>
    IReadOnlyList<StructureStatement> StructureFor(IReadOnlyList<TableSchema> tables);

    /// <summary>What must hold so that these tables of its own can be written. Those in
    /// <paramref name="begun"/> are this crossing's own; of others that are there already, <paramref name="existing"/> says what they
    /// mean, and without it they keep it from starting when they have rows.</summary>
    Task<IReadOnlyList<ReadinessLine>> CheckTargetAsync(
        IReadOnlyList<TableSchema> tables,
        IReadOnlyDictionary<TableName, ExistingRows> existing,
        IReadOnlySet<TableName> begun,
        CancellationToken cancellation
    );

    /// <summary>The statement by which a change is written, with marks where its values go.</summary>
    string StatementFor(TableSchema table, RowChange change);

    /// <summary>What the target knows of the crossing, without taking it over.</summary>
    Task<TargetProgress> ReadProgressAsync(string crossing, CancellationToken cancellation);

    /// <summary>Opens a view of all rows, with what the crossing had applied at the same moment. Takes nothing over.</summary>
    Task<IRowsView> OpenViewAsync(string crossing, CancellationToken cancellation);

    /// <summary>
    /// Takes the crossing over for the worker with that term. Workers with lower terms cannot write from then on. Throws
    /// <see cref="Faults.FencedException"/> when a higher term was here before.
    /// </summary>
    Task<ITargetSession> OpenSessionAsync(string crossing, long term, CancellationToken cancellation);

    /// <summary>Forgets the crossing: its progress is removed, its rows stay.</summary>
    Task ForgetAsync(string crossing, CancellationToken cancellation);
}
