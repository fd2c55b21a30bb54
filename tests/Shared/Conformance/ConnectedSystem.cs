using Vestige.Core.Changes;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;

namespace Vestige.Tests.Conformance;

/// <summary>A database under the conformance suites, as source and as target.</summary>
public abstract class ConnectedSystem : ConnectedSource
{
    public abstract TargetSystem Target { get; }

    public override Task ChangeAsync(params ItemChange[] changes) => RunAsync([.. changes.Select(change => change.Statement)]);

    /// <summary>Runs one transaction of statements that both engines understand.</summary>
    public abstract Task RunAsync(params string[] statements);

    /// <summary>A row as this engine's log carries it.</summary>
    public abstract Row Row(long id, string? v);

    public async Task<TableSchema> FormAsync() =>
        (await Source.Catalogue.ReadTablesAsync(CancellationToken.None)).Single(table => table.Schema.Name == Item).Schema;
}
