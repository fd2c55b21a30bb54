using Vestige.Engine.Ports;

namespace Vestige.Tests.Conformance;

/// <summary>A sink under the conformance suites, empty, with one table at most: <see cref="SinkSamples.Item"/>.</summary>
public abstract class ConnectedSink : IAsyncDisposable
{
    public abstract IConnector Connector { get; }

    /// <summary>
    /// What whoever reads it finds, in order: of a sink that holds rows <c>id=v</c>; of one that holds changes <c>+id v</c>, <c>~id v</c>
    /// or <c>−id</c>, rows of a load as <c>·id v</c>, its begin and end as <c>[</c> and <c>]</c>.
    /// </summary>
    public abstract Task<IReadOnlyList<string>> ReadAsync();

    /// <summary>The identifier of each change and loaded row, in the same order; empty where rows are held.</summary>
    public abstract Task<IReadOnlyList<string>> IdentifiersAsync();

    public abstract ValueTask DisposeAsync();
}
