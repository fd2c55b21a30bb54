using Vestige.Engine.Ports;
using Vestige.Tests.Conformance;

namespace Vestige.Engine.Tests.Toys.TablesInMemory;

/// <summary>The tables in memory under the suite for sinks of tables.</summary>
public sealed class TablesConformanceTests : TableSinkConformance
{
    protected override Task<ConnectedSink> ConnectAsync() => Task.FromResult<ConnectedSink>(new Connected());

    private sealed class Connected : ConnectedSink
    {
        private readonly TablesConnector tables = new();

        public override IConnector Connector => tables;

        public override Task<IReadOnlyList<string>> ReadAsync() =>
            Task.FromResult<IReadOnlyList<string>>([
                .. tables
                    .Tables.Values.SelectMany(table => table.Rows.Values)
                    .OrderBy(row => row.IntegerAt(0))
                    .Select(row => $"{row.DisplayAt(0)}={row.DisplayAt(1)}"),
            ]);

        public override Task<IReadOnlyList<string>> IdentifiersAsync() => Task.FromResult<IReadOnlyList<string>>([]);

        public override ValueTask DisposeAsync() => tables.DisposeAsync();
    }
}
