using Vestige.Core.Crossings;
using Vestige.Engine.Commands;
using Vestige.Engine.Measuring;
using Xunit;

namespace Vestige.Connectors.StandIn.Tests;

/// <summary>Two installations, neither aware of the other, carry one table there and back.</summary>
public sealed class RouteTests : IAsyncLifetime
{
    private readonly TwoStandIns both = new();
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    public async ValueTask InitializeAsync()
    {
        await both.RunAsync(both.A, "CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO t VALUES (1, 'a'), (2, 'b'), (3, 'c')");
        await both.BeginAsync();
    }

    public ValueTask DisposeAsync() => both.DisposeAsync();

    [Fact]
    public async Task A_loop_ends_after_one_round_and_what_was_written_on_either_side_crosses()
    {
        await StartAsync(both.Engine, "there", "a", "b", ExistingRows.Refuse);
        await using var another = await both.BeginAnotherAsync();
        await StartAsync(another, "back", "b", "a", ExistingRows.Merge);
        await both.RunAsync(both.A, "UPDATE t SET v = 'of a' WHERE id = 1; INSERT INTO t VALUES (4, 'of a, too')");
        await both.RunAsync(both.B, "UPDATE t SET v = 'of b' WHERE id = 2; DELETE FROM t WHERE id = 3");
        await both.WaitAsync(
            () => Content("a.db") == "1 of a,2 of b,4 of a, too" && Content("b.db") == Content("a.db"),
            "both being equal"
        );

        // Whatever still circulated would be written again and again.
        await QuietAsync();
        Assert.Equal("1 of a,2 of b,4 of a, too", Content("a.db"));
        Assert.Equal(Content("a.db"), Content("b.db"));
        var (here, there) = (both.A.Identity.Server, both.B.Identity.Server);
        Assert.Equal([here], Routes("b.db"));
        Assert.All(Routes("a.db"), route => Assert.Contains(route, new[] { there, $"{here} {there}" }));
    }

    private async Task StartAsync(CrossingEngine engine, string name, string from, string to, ExistingRows existing)
    {
        await engine.DefineAsync(
            new CrossingDefinition(
                name,
                CrossingDefinition.Copy,
                from,
                to,
                new TableRules([new TableRule(Take: $"{from}.t")]),
                new StartOptions(existing)
            ),
            "test",
            cancellation
        );
        await engine.RunAsync(name, "test", cancellation, typed: name);
        await both.WaitAsync(() => engine.Status(name)!.State == CrossingState.Following, "following");
    }

    private async Task QuietAsync()
    {
        var (steady, rounds) = (0, 0);
        for (var before = Heads; steady < 10; before = Heads)
        {
            Assert.True(++rounds < 300, $"The logs grow and grow: {Heads}");
            await Task.Delay(200, cancellation);
            steady = before == Heads ? steady + 1 : 0;
        }
    }

    private (ulong, ulong) Heads => (both.A.Head.Offset, both.B.Head.Offset);

    private string Content(string file) => string.Join(",", both.Rows(file, "SELECT id || ' ' || v FROM t ORDER BY id"));

    private IReadOnlyList<string> Routes(string file) =>
        both.Rows(file, "SELECT DISTINCT route FROM vestige_log WHERE route IS NOT NULL ORDER BY 1");
}
