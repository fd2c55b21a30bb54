using Microsoft.Extensions.Logging.Abstractions;
using Vestige.Core.Crossings;
using Vestige.Core.Readiness;
using Vestige.Core.Schemas;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Tests.Doubles;
using Vestige.Engine.Tests.Simulation;
using Vestige.Tests.Shared.Quarantine;
using Xunit;

namespace Vestige.Engine.Tests.Commands;

/// <summary>What a start would do, and what keeps it from being made.</summary>
public sealed class PlanTests : IAsyncLifetime, IConnections
{
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;
    private readonly ScriptedSource source = new();
    private readonly ScriptedTarget target = new();
    private readonly MemoryStore store = new();
    private readonly MemoryFiles files = new();
    private CrossingEngine engine = null!;

    public async ValueTask InitializeAsync()
    {
        engine = new CrossingEngine(
            this,
            new EngineStores(store, new MemoryQuarantine()),
            new EngineSecrets(new PlainCipher(), new PlainKeys()),
            new EngineOptions(new(), AssumedRowsPerSecond: 10),
            TimeProvider.System,
            new Random(1),
            NullLogger.Instance
        );
        await engine.StartAsync(cancellation);
    }

    public ValueTask DisposeAsync() => engine.DisposeAsync();

    public SourceSystem Source(string connection) => new(connection, new ConnectorOfPorts(source));

    public TargetSystem Target(string connection) => new(connection, new ConnectorOfPorts(target));

    public ISpoolFiles SpoolOf(string connection) => files;

    [Fact]
    public async Task It_names_tables_statements_rows_and_time()
    {
        var plan = await PlanAsync(new TableRule(Take: "sim.*"));
        Assert.True(plan.Ready);
        Assert.Equal(30, plan.Rows);
        Assert.Equal(TimeSpan.FromSeconds(3), plan.Estimate);
        Assert.False(plan.Measured);
        Assert.Equal(
            ["sim.first → copy.first", "sim.second → copy.second"],
            plan.Tables.Select(table => $"{table.Source} → {table.Into[0]}")
        );
        Assert.Equal(["CREATE TABLE first", "CREATE TABLE second"], plan.Statements.Select(statement => statement.Text));
    }

    [Fact]
    public async Task A_table_that_cannot_cross_is_told_with_its_reason()
    {
        source.Tables.Add(new TableDescription(SimRows.Other, 5, null, "it has no key"));
        var plan = await PlanAsync(new TableRule(Take: "sim.*"));
        Assert.False(plan.Ready);
        Assert.Equal("it has no key", Assert.Single(plan.LeftOut).Reason);
        var line = Assert.Single(plan.Checks, line => !line.Ok);
        Assert.Equal("table sim.other", line.Step);
        Assert.Contains("leave sim.other out", line.Remedy, StringComparison.Ordinal);
        Assert.True((await PlanAsync(new TableRule(Take: "sim.*"), new TableRule(Leave: "sim.other"))).Ready);
    }

    [Theory]
    [InlineData("sim.nowhere", "table sim.nowhere", "the source has no such table")]
    [InlineData("other.*", "tables", "the rules match no table of the source")]
    public async Task Rules_that_find_nothing_are_told(string rule, string step, string found)
    {
        var plan = await PlanAsync(new TableRule(Take: rule));
        Assert.Contains(plan.Checks, line => !line.Ok && line.Step == step && line.Found == found && line.Remedy is not null);
    }

    [Fact]
    public async Task A_system_that_does_not_answer_ends_the_plan_with_what_to_do()
    {
        target.Unreachable = true;
        var plan = await PlanAsync(new TableRule(Take: "sim.*"));
        var line = Assert.Single(plan.Checks, line => !line.Ok);
        Assert.Equal(("target warehouse: reach", "The connection is cut.", "Restore the network."), (line.Step, line.Found, line.Remedy));
        Assert.Empty(plan.Tables);
    }

    [Fact]
    public async Task What_a_system_lacks_keeps_the_start_from_being_made()
    {
        target.Lines.Add(new ReadinessCheck("rows", false, "5 rows", "none", "Empty it.", TimeSpan.Zero));
        await engine.DefineAsync(Definition([new TableRule(Take: "sim.*")]), "somebody", cancellation);
        var refused = await Assert.ThrowsAsync<NotReadyException>(() => engine.RunAsync("copy", "somebody", cancellation));
        Assert.Contains(refused.Checks, line => line.Step == "rows" && !line.Ok);
        Assert.Equal(CrossingState.Draft, engine.Status("copy")!.State);
        Assert.Equal(DesiredState.Draft, Assert.Single(await store.LoadAsync(cancellation)).Desired);
    }

    /// <summary>What is started is what was checked, and what was agreed to.</summary>
    [Fact]
    public async Task A_definition_that_is_changed_while_a_start_is_checked_is_refused_once_it_is_made()
    {
        var checkedOne = Definition([new TableRule(Take: "sim.first")]);
        await engine.DefineAsync(checkedOne, "somebody", cancellation);
        var answer = new TaskCompletionSource();
        target.Answering = answer.Task;
        var start = engine.RunAsync("copy", "somebody", cancellation);
        var change = engine.DefineAsync(Definition([new TableRule(Take: "sim.*")]), "another", cancellation);
        answer.SetResult();
        await start;
        await Assert.ThrowsAsync<RequestRefusedException>(() => change);
        Assert.Equal(checkedOne, engine.Status("copy")!.Definition);
        Assert.Equal(checkedOne, Assert.Single(await store.LoadAsync(cancellation)).Definition);
    }

    [Fact]
    public async Task A_crossing_that_is_removed_while_something_is_asked_of_it_does_not_come_back()
    {
        await engine.DefineAsync(Definition([new TableRule(Take: "sim.*")]), "somebody", cancellation);
        await engine.RunAsync("copy", "somebody", cancellation);
        await engine.PauseAsync("copy", "somebody", cancellation);
        var answer = new TaskCompletionSource();
        target.Answering = answer.Task;
        var removal = engine.RemoveAsync("copy", "somebody", cancellation);
        var start = engine.RunAsync("copy", "another", cancellation);
        var tagged = engine.PaceAsync("copy", definition => definition with { Tags = ["late"] }, "another", cancellation);
        answer.SetResult();
        await removal;
        await Assert.ThrowsAsync<RequestRefusedException>(() => start);
        await Assert.ThrowsAsync<RequestRefusedException>(() => tagged);
        Assert.Empty(await store.LoadAsync(cancellation));
        Assert.Null(engine.Status("copy"));
    }

    [Fact]
    public async Task Requests_that_make_no_sense_are_refused_and_change_nothing()
    {
        await engine.DefineAsync(Definition([new TableRule(Take: "sim.*")]), "somebody", cancellation);
        await Assert.ThrowsAsync<RequestRefusedException>(() => engine.PauseAsync("copy", "somebody", cancellation));
        await Assert.ThrowsAsync<RequestRefusedException>(() => engine.ReloadAsync("copy", [], "somebody", cancellation));
        await Assert.ThrowsAsync<RequestRefusedException>(() => engine.RunAsync("nowhere", "somebody", cancellation));
        await Assert.ThrowsAsync<RequestRefusedException>(() => engine.RemoveAsync("nowhere", "somebody", cancellation));
        await engine.RemoveAsync("copy", "somebody", cancellation);
        Assert.Empty(engine.Statuses);
    }

    [Fact]
    public async Task A_target_that_refuses_for_good_faults_the_crossing_and_says_why()
    {
        await engine.DefineAsync(Definition([new TableRule(Take: "sim.*")]), "somebody", cancellation);
        await engine.RunAsync("copy", "somebody", cancellation);
        var until = DateTimeOffset.UtcNow.AddSeconds(120);
        while (engine.Status("copy")!.State != CrossingState.Faulted)
        {
            Assert.True(DateTimeOffset.UtcNow < until, $"{engine.Status("copy")}");
            await Task.Delay(10, cancellation);
        }

        Assert.Equal("The target is read only.", engine.Status("copy")!.Fault!.What);
        await engine.StopAsync("copy", StopMode.Now, "somebody", cancellation);
        Assert.Equal(CrossingState.Faulted, engine.Status("copy")!.State);
    }

    private static CrossingDefinition Definition(IReadOnlyList<TableRule> rules) =>
        new("copy", CrossingDefinition.Copy, "circulation", "warehouse", new TableRules(rules));

    private Task<CrossingPlan> PlanAsync(params TableRule[] rules) => engine.PlanAsync(Definition(rules), cancellation);
}
