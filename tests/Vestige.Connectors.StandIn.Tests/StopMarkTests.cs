using Vestige.Core.Crossings;
using Vestige.Engine.Faults;
using Xunit;

namespace Vestige.Connectors.StandIn.Tests;

/// <summary>Coming to rest at a mark.</summary>
public sealed class StopMarkTests : IAsyncLifetime
{
    private const string Name = "copy";
    private readonly TwoStandIns systems = new();
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    public async ValueTask InitializeAsync()
    {
        await systems.RunAsync(systems.A, "CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO t VALUES (0, 'loaded')");
        await systems.BeginAsync();
        await systems.Engine.DefineAsync(
            new CrossingDefinition(Name, CrossingDefinition.Copy, "a", "b", new TableRules([new TableRule(Take: "a.t")])),
            "test",
            cancellation
        );
        await systems.Engine.RunAsync(Name, "test", cancellation);
        await UntilAsync(CrossingState.Following);
    }

    public ValueTask DisposeAsync() => systems.DisposeAsync();

    [Fact]
    public async Task At_a_time_what_was_committed_by_then_is_there_and_nothing_later()
    {
        await systems.Engine.PauseAsync(Name, "test", cancellation);
        await InsertAsync(1, 2);
        await SpooledAsync();
        await Task.Delay(30, cancellation);
        var time = DateTimeOffset.UtcNow;
        await Task.Delay(30, cancellation);
        using (await ResumeBeforeTheDoorAsync())
        {
            await systems.Engine.StopAtAsync(Name, new StopMark(Time: time), "test", cancellation);
            await InsertAsync(3, 4);
        }

        await UntilAsync(CrossingState.Stopped);
        Assert.Equal("0 1 2", There());
        await GoesOnAsync("0 1 2 3 4");
    }

    /// <summary>Nothing needs to happen behind the mark for it to be reached: the reader says how far the log was read.</summary>
    [Fact]
    public async Task At_a_time_to_come_on_a_quiet_source()
    {
        await InsertAsync(1, 1);
        await systems.Engine.StopAtAsync(Name, new StopMark(Time: DateTimeOffset.UtcNow.AddSeconds(2)), "test", cancellation);
        await InsertAsync(2, 2);
        Assert.NotEqual(CrossingState.Stopped, State);
        await UntilAsync(CrossingState.Stopped);
        Assert.Equal("0 1 2", There());
        await systems.WaitAsync(() => systems.Engine.Status(Name)!.Until is null, "the mark gone");
    }

    [Fact]
    public async Task A_mark_outlives_the_process()
    {
        await systems.Engine.PauseAsync(Name, "test", cancellation);
        await InsertAsync(1, 20);
        var mark = systems.A.Head;
        await SpooledAsync();
        using (await ResumeBeforeTheDoorAsync())
        {
            await systems.Engine.StopAtAsync(Name, new StopMark(mark), "test", cancellation);
            await InsertAsync(21, 30);
            await SpooledAsync();
            await systems.Engine.DisposeAsync();
        }

        Assert.DoesNotContain("20", There(), StringComparison.Ordinal);
        await systems.BeginAsync();
        await UntilAsync(CrossingState.Stopped);
        Assert.Equal(mark, systems.Engine.Status(Name)!.AppliedPosition);
        Assert.Equal(string.Join(' ', Enumerable.Range(0, 21)), There());

        // Reached, it is not gone to again.
        await systems.Engine.DisposeAsync();
        await systems.BeginAsync();
        await systems.WaitAsync(() => State == CrossingState.Stopped && systems.Engine.Status(Name)!.Until is null, "rest at the mark");
        Assert.Equal(mark, systems.Engine.Status(Name)!.AppliedPosition);
    }

    [Fact]
    public async Task A_mark_is_taken_back()
    {
        await systems.Engine.StopAtAsync(Name, new StopMark(Time: DateTimeOffset.UtcNow.AddHours(1)), "test", cancellation);
        Assert.NotNull(systems.Engine.Status(Name)!.Until);
        await systems.Engine.RunAsync(Name, "test", cancellation);
        Assert.Null(systems.Engine.Status(Name)!.Until);
        await InsertAsync(1, 1);
        await systems.WaitAsync(() => There() == "0 1", "the row");
        Assert.Equal(CrossingState.Following, State);
    }

    [Fact]
    public async Task A_mark_that_may_have_been_passed_is_refused()
    {
        await InsertAsync(1, 1);
        await systems.WaitAsync(() => There() == "0 1", "the row");
        await RefusedAsync(new StopMark(new Core.Positions.LogPosition(1)));
        await RefusedAsync(new StopMark(Time: DateTimeOffset.UtcNow.AddMinutes(-1)));
        await systems.Engine.PauseAsync(Name, "test", cancellation);
        await RefusedAsync(new StopMark(Time: DateTimeOffset.UtcNow.AddMinutes(1)));
    }

    private CrossingState State => systems.Engine.Status(Name)!.State;

    private string There() => string.Join(' ', systems.Rows("b.db", "SELECT CAST(id AS TEXT) FROM t ORDER BY id"));

    private Task UntilAsync(CrossingState state) => systems.WaitAsync(() => State == state, state.Word());

    private Task SpooledAsync() => systems.WaitAsync(() => systems.Engine.Status(Name)!.Capture!.Spooled >= systems.A.Head, "the spool");

    private Task<RequestRefusedException> RefusedAsync(StopMark mark) =>
        Assert.ThrowsAsync<RequestRefusedException>(() => systems.Engine.StopAtAsync(Name, mark, "test", cancellation));

    private async Task InsertAsync(int first, int last)
    {
        for (var i = first; i <= last; i++)
        {
            await systems.RunAsync(systems.A, $"INSERT INTO t VALUES ({i}, 'n')");
        }
    }

    /// <summary>Resumes while another transaction holds the target: nothing is written there until that one is disposed.</summary>
    private async Task<StandInTransaction> ResumeBeforeTheDoorAsync()
    {
        var inTheDoor = await systems.B.BeginAsync(cancellation: cancellation);
        await systems.Engine.RunAsync(Name, "test", cancellation);
        return inTheDoor;
    }

    private async Task GoesOnAsync(string rows)
    {
        await systems.Engine.RunAsync(Name, "test", cancellation);
        await systems.WaitAsync(() => There() == rows, "the rest");
    }
}
