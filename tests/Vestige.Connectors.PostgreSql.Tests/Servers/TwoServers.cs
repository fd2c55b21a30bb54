using Xunit;

[assembly: AssemblyFixture(typeof(Vestige.Connectors.PostgreSql.Tests.Servers.TwoServers))]

namespace Vestige.Connectors.PostgreSql.Tests.Servers;

/// <summary>A source server and a target server for all tests.</summary>
public sealed class TwoServers : IAsyncLifetime
{
    public Cluster A { get; private set; } = null!;

    public Cluster B { get; private set; } = null!;

    public async ValueTask InitializeAsync()
    {
        A = await Cluster.StartAsync();
        B = await Cluster.StartAsync();
    }

    public async ValueTask DisposeAsync()
    {
        await A.DisposeAsync();
        await B.DisposeAsync();
    }
}
