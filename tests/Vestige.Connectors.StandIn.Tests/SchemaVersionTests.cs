using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Xunit;

namespace Vestige.Connectors.StandIn.Tests;

/// <summary>The versions of a stand-in's tables: its log tells each where it was made.</summary>
public sealed class SchemaVersionTests : IAsyncDisposable
{
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;
    private readonly TwoStandIns world = new();

    public ValueTask DisposeAsync() => world.DisposeAsync();

    [Fact]
    public async Task Each_change_is_an_exact_version_in_the_order_of_the_log()
    {
        await BeginAsync();
        await RunAsync("ALTER TABLE t ADD COLUMN memo TEXT DEFAULT 'x'");
        await RunAsync("ALTER TABLE t RENAME COLUMN v TO w");
        await RunAsync("ALTER TABLE t DROP COLUMN memo; ALTER TABLE t ADD COLUMN memo TEXT");
        await RunAsync("DROP TABLE t");
        await UntilAsync(6);
        Assert.Equal(
            [
                "Table found",
                "Column memo added (TEXT default 'x')",
                "Column v renamed to w",
                "Column memo dropped (was TEXT)",
                "Column memo added (TEXT)",
                "Table dropped or renamed",
            ],
            Versions.Select(version => string.Join('|', version.Changes.Select(change => change.Words)))
        );
        Assert.All(Versions, version => Assert.Equal(VersionCertainty.Exact, version.Certainty));
        Assert.Equal(Versions.Select(version => version.From).Order(), Versions.Select(version => version.From));
        Assert.Null(Versions[^1].Schema);
    }

    [Fact]
    public async Task What_was_done_while_nothing_was_read_is_told_by_the_log()
    {
        await BeginAsync();
        await world.Engine.DisposeAsync();
        await RunAsync("ALTER TABLE t ADD COLUMN memo TEXT");
        await RunAsync("ALTER TABLE t RENAME COLUMN memo TO note");
        await world.BeginAsync();
        await UntilAsync(3);
        Assert.Equal(["column memo added", "column memo renamed to note"], Versions.Skip(1).Select(version => version.What));
        await world.Engine.DisposeAsync();
        await world.BeginAsync();
        await RunAsync("INSERT INTO t VALUES (9, 'x', 'y')");
        Assert.Equal(3, Versions.Count);
    }

    private List<SchemaVersion> Versions => [.. world.Versions.Everything];

    private async Task BeginAsync()
    {
        await RunAsync("CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT)");
        await RunAsync("INSERT INTO t VALUES (1, 'x')");
        await world.BeginAsync();
        await world.Engine.DefineAsync(
            new CrossingDefinition("c", CrossingDefinition.Copy, "a", "b", new TableRules([new TableRule(Take: "a.*")])),
            "test",
            cancellation
        );
        await world.Engine.RunAsync("c", "test", cancellation);
        await UntilAsync(1);
    }

    private Task RunAsync(string statements) => world.RunAsync(world.A, statements);

    private async Task UntilAsync(int versions)
    {
        var until = DateTimeOffset.UtcNow.AddSeconds(60);
        while (Versions.Count < versions)
        {
            Assert.True(DateTimeOffset.UtcNow < until, $"only {string.Join(", ", Versions.Select(one => one.What))}");
            await Task.Delay(20, cancellation);
        }
    }
}
