using Vestige.Core.Changes;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;

namespace Vestige.Tests.Conformance;

/// <summary>A system under the conformance suites: an empty database with one table, <c>item (id, v)</c>, id its key.</summary>
public abstract class ConnectedSystem : IAsyncDisposable
{
    public abstract SourceSystem Source { get; }

    public abstract TargetSystem Target { get; }

    /// <summary>The table, and another one that nobody asks for.</summary>
    public abstract TableName Item { get; }

    /// <summary>Runs one transaction of statements that both engines understand.</summary>
    public abstract Task RunAsync(params string[] statements);

    /// <summary>The rows as <c>id=v</c>, in the order of id.</summary>
    public abstract Task<IReadOnlyList<string>> RowsAsync();

    /// <summary>A row as this engine's log carries it.</summary>
    public abstract Row Row(long id, string? v);

    public async Task<TableSchema> FormAsync() =>
        (await Source.Catalogue.ReadTablesAsync(CancellationToken.None)).Single(table => table.Schema.Name == Item).Schema;

    public abstract ValueTask DisposeAsync();
}
