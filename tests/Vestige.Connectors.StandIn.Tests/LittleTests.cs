using System.Diagnostics;
using Vestige.Core.Crossings;
using Xunit;

namespace Vestige.Connectors.StandIn.Tests;

/// <summary>
/// Backlog, rate and delay as they are measured agree with Little's law, L = λW (J. D. C. Little, A proof for the queuing formula
/// L = λW, Operations Research 9, 1961): in steady state as many transactions wait as arrive within a delay.
/// </summary>
public sealed class LittleTests : IAsyncLifetime
{
    private const string Name = "copy";
    private static readonly TimeSpan Warming = TimeSpan.FromSeconds(3);
    private static readonly TimeSpan Measured = TimeSpan.FromSeconds(9);
    private readonly TwoStandIns systems = new();
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    public async ValueTask InitializeAsync()
    {
        await systems.RunAsync(systems.A, "CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT)");
        await systems.BeginAsync();
    }

    public ValueTask DisposeAsync() => systems.DisposeAsync();

    [Fact]
    public async Task As_many_transactions_wait_as_arrive_within_a_delay()
    {
        await systems.Engine.DefineAsync(
            new CrossingDefinition(Name, CrossingDefinition.Copy, "a", "b", new TableRules([new TableRule(Take: "a.t")])),
            "test",
            cancellation
        );
        await systems.Engine.RunAsync(Name, "test", cancellation);
        await systems.WaitAsync(() => systems.Engine.Status(Name)!.State == CrossingState.Following, "following");
        systems.B.Drills.Delay = TimeSpan.FromMilliseconds(250);
        using var ending = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
        var work = WorkAsync(ending.Token);
        await Task.Delay(Warming, cancellation);
        var (waiting, samples, before, clock) = (0L, 0, work.Result, Stopwatch.StartNew());
        while (clock.Elapsed < Measured)
        {
            waiting += systems.Engine.Status(Name)!.TransactionsBehind;
            samples++;
            await Task.Delay(10, cancellation);
        }

        var rate = (work.Result - before) / clock.Elapsed.TotalSeconds;
        var delay = systems.Engine.Meter(Name)!.MeanHops(DateTimeOffset.UtcNow)!.Value.Total.TotalSeconds;
        await ending.CancelAsync();
        systems.B.Drills.Delay = TimeSpan.Zero;
        Assert.True(delay > 0.25, $"{delay}");

        // What is on its way between the commit and the spool is in the delay and not among what waits; hence the width.
        var (left, right) = ((double)waiting / samples, rate * delay);
        Assert.InRange(left / right, 0.75, 1.25);
    }

    /// <summary>Commits a row about every ten milliseconds; its result grows with them.</summary>
    private Counter WorkAsync(CancellationToken ending)
    {
        var counter = new Counter();
        _ = Task.Run(
            async () =>
            {
                while (!ending.IsCancellationRequested)
                {
                    await systems.RunAsync(systems.A, "INSERT INTO t (v) VALUES ('row')");
                    counter.Result++;
                    await Task.Delay(8, CancellationToken.None);
                }
            },
            CancellationToken.None
        );
        return counter;
    }

    private sealed class Counter
    {
        private long result;

        public long Result
        {
            get => Interlocked.Read(ref result);
            set => Interlocked.Exchange(ref result, value);
        }
    }
}
