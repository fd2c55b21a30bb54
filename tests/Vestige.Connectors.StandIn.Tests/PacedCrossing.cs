using Vestige.Core.Crossings;
using Vestige.Engine.Measuring;
using Xunit;

namespace Vestige.Connectors.StandIn.Tests;

/// <summary>A crossing of one table <c>t</c> between two stand-ins, which begins with one row.</summary>
public sealed class PacedCrossing : IAsyncDisposable
{
    public const string Name = "copy";
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    public TwoStandIns Systems { get; } = new();

    public CrossingStatus Status => Systems.Engine.Status(Name)!;

    public DateTimeOffset? NextRun => Status.NextRun;

    public async Task BeginAsync()
    {
        await Systems.RunAsync(Systems.A, "CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO t VALUES (0, 'loaded')");
        await Systems.BeginAsync();
    }

    public ValueTask DisposeAsync() => Systems.DisposeAsync();

    /// <summary>Makes it by a definition, and starts it.</summary>
    public async Task StartAsync(Func<CrossingDefinition, CrossingDefinition> with)
    {
        await Systems.Engine.DefineAsync(
            with(new CrossingDefinition(Name, CrossingDefinition.Copy, "a", "b", new TableRules([new TableRule(Take: "a.t")]))),
            "test",
            cancellation
        );
        await RunAsync();
    }

    public Task RunAsync() => Systems.Engine.RunAsync(Name, "test", cancellation);

    /// <summary>As the page of its pace does.</summary>
    public Task PaceAsync(Func<CrossingDefinition, CrossingDefinition> change) =>
        Systems.Engine.PaceAsync(Name, change, "test", cancellation);

    /// <summary>As another definition does.</summary>
    public Task ChangeAsync(Func<CrossingDefinition, CrossingDefinition> change) =>
        Systems.Engine.ChangeAsync(change(Status.Definition), "test", cancellation);

    public Task FollowsAsync() => WaitAsync(() => Status.State == CrossingState.Following, "following");

    public Task WaitAsync(Func<bool> holds, string what) => Systems.WaitAsync(holds, what);

    /// <summary>The rows of the table on the target.</summary>
    public int Count() => int.Parse(Systems.Rows("b.db", "SELECT CAST(count(*) AS TEXT) FROM t")[0]);

    public async Task InsertAsync(int from, int to)
    {
        for (var i = from; i <= to; i++)
        {
            await Systems.RunAsync(Systems.A, $"INSERT INTO t VALUES ({i}, 'row')");
        }
    }
}
