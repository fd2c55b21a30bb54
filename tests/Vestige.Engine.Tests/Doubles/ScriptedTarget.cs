using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Readiness;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Tests.Doubles;

/// <summary>A target that can be looked at and planned for, and that nobody can write.</summary>
public sealed class ScriptedTarget : IProbe, ICatalogue, IRowLookup, ITableTarget
{
    public List<ReadinessCheck> Test { get; } = [];

    public List<ReadinessCheck> Lines { get; } = [];

    public bool Unreachable { get; set; }

    /// <summary>Waited for before it answers whether it can be reached.</summary>
    public Task Answering { get; set; } = Task.CompletedTask;

    public string Engine { get; set; } = "scripted";

    public IEngineTypes Types => PlainTypes.Instance;

    public string Who { get; set; } = "target";

    public Task<string> GetIdentityAsync(CancellationToken cancellation) => Task.FromResult(Who);

    public async Task<bool> IsSameAsync(IProbe other, CancellationToken cancellation) => await other.GetIdentityAsync(cancellation) == Who;

    public IReadOnlySet<string> TakenForms { get; } = new HashSet<string>();

    public TableName NameFor(TableName source) => new("copy", source.Name);

    public TargetStructure StructureOf(IReadOnlyList<TableTreatment> treatments) =>
        new([.. treatments.SelectMany(treatment => treatment.Tables).Select(table => table.Schema)], []);

    public IReadOnlyList<StructureStatement> StructureFor(IReadOnlyList<TableSchema> tables) =>
        [.. tables.Select(table => new StructureStatement($"CREATE TABLE {table.Name.Name}", table.Name))];

    public Task<IReadOnlyList<ReadinessCheck>> CheckTargetAsync(
        IReadOnlyList<TableSchema> tables,
        IReadOnlyDictionary<TableName, ExistingRows> existing,
        IReadOnlySet<TableName> begun,
        CancellationToken cancellation
    ) => Task.FromResult<IReadOnlyList<ReadinessCheck>>(Lines);

    public string StatementFor(TableSchema table, RowChange change) => "";

    public Task<TargetProgress> ReadProgressAsync(string crossing, CancellationToken cancellation) => Task.FromResult(TargetProgress.None);

    public Task<ITargetSession> OpenSessionAsync(string crossing, long term, CancellationToken cancellation) =>
        throw new PortException("The target is read only.") { Remedy = "Nothing." };

    public Task ForgetAsync(string crossing, CancellationToken cancellation) => Answering.WaitAsync(cancellation);

    public Task<IReadOnlyList<TableDescription>> ReadTablesAsync(CancellationToken cancellation) =>
        Task.FromResult<IReadOnlyList<TableDescription>>([]);

    public Task<long> CountAsync(TableName table, SharedRows? only, CancellationToken cancellation) => Task.FromResult(0L);

    public Task<Row?> FindAsync(TableSchema table, IReadOnlyList<string> key, CancellationToken cancellation) =>
        Task.FromResult<Row?>(null);

    public Task<IReadOnlyList<Row>> SampleRowsAsync(TableSchema table, int rows, CancellationToken cancellation) =>
        Task.FromResult<IReadOnlyList<Row>>([]);

    public async Task<IReadOnlyList<ReadinessCheck>> TestAsync(CancellationToken cancellation)
    {
        await Answering.WaitAsync(cancellation);
        return Unreachable ? throw new PortException("The connection is cut.") { Remedy = "Restore the network." } : Test;
    }
}
