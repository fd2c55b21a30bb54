using Vestige.Core.Schemas;
using Vestige.Engine.Ports;

namespace Vestige.Tests.Conformance;

/// <summary>A source under the conformance suites: empty, with one table, <c>item (id, v)</c>, id its key.</summary>
public abstract class ConnectedSource : IAsyncDisposable
{
    public abstract SourceSystem Source { get; }

    /// <summary>The table; there is another one that nobody asks for.</summary>
    public abstract TableName Item { get; }

    /// <summary>Makes changes, in one transaction.</summary>
    public abstract Task ChangeAsync(params ItemChange[] changes);

    /// <summary>The rows as <c>id=v</c>, in the order of id.</summary>
    public abstract Task<IReadOnlyList<string>> RowsAsync();

    public abstract ValueTask DisposeAsync();
}
