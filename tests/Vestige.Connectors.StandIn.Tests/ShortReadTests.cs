using Vestige.Connectors.StandIn.Sources;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Xunit;

namespace Vestige.Connectors.StandIn.Tests;

/// <summary>Reads of pages, whose connections stay open from one to the next.</summary>
public sealed class ShortReadTests : IAsyncLifetime
{
    private readonly TwoStandIns systems = new();
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    public async ValueTask InitializeAsync() => await systems.BeginAsync();

    public ValueTask DisposeAsync() => systems.DisposeAsync();

    [Fact]
    public async Task They_see_what_was_committed_since_and_go_on_after_one_that_failed()
    {
        var source = new StandInSource(systems.A, TimeProvider.System);
        var (first, later) = (new TableName("a", "first"), new TableName("a", "later"));
        await systems.RunAsync(systems.A, "CREATE TABLE first (id INTEGER PRIMARY KEY)");
        Assert.Equal(0, await source.CountAsync(first, null, cancellation));
        await Assert.ThrowsAsync<PortException>(() => source.CountAsync(later, null, cancellation));
        await systems.RunAsync(systems.A, "CREATE TABLE later (id INTEGER PRIMARY KEY); INSERT INTO later VALUES (1), (2)");
        await systems.RunAsync(systems.A, "DROP TABLE first");
        Assert.Equal(2, await source.CountAsync(later, null, cancellation));
        await Assert.ThrowsAsync<PortException>(() => source.CountAsync(first, null, cancellation));
    }

    [Fact]
    public async Task Many_at_once_each_have_a_connection()
    {
        var source = new StandInSource(systems.A, TimeProvider.System);
        await systems.RunAsync(systems.A, "CREATE TABLE t (id INTEGER PRIMARY KEY); INSERT INTO t VALUES (1), (2), (3)");
        var counts = await Task.WhenAll(
            Enumerable.Range(0, 40).Select(_ => Task.Run(() => source.CountAsync(new TableName("a", "t"), null, cancellation)))
        );
        Assert.All(counts, count => Assert.Equal(3, count));
    }
}
