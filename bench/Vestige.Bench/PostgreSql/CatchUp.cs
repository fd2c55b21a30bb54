using System.Diagnostics;
using Vestige.Core.Crossings;

namespace Vestige.Bench.PostgreSql;

/// <summary>Updates on the target from a filled spool, against the server's own subscription from its slot; both commit durably.</summary>
internal static class CatchUp
{
    public static async Task RunAsync(int changes)
    {
        foreach (
            var (name, perTransaction, hot, asked) in new[]
            {
                ("uniform", 2, false, 2.0),
                ("1 % hot", 2, true, 5.0),
                ("large transactions", 200_000, false, 1.0),
            }
        )
        {
            await using var pair = await ServerPair.StartAsync();
            await Updates.FillAsync(pair.Source);
            await Updates.FillAsync(pair.Baseline);
            await pair.CrossAsync();
            await pair.UntilAsync(() => pair.Engine.Status("bench")!.State == CrossingState.Following);
            await pair.Engine.PauseAsync("bench", "bench", CancellationToken.None);
            await pair.SubscribeAsync("item", enabled: false);
            await Updates.MakeAsync(pair.Source, changes, perTransaction, hot);
            var end = Vestige.Connectors.PostgreSql.Lsn.Parse(await pair.Source.AskAsync("SELECT pg_current_wal_flush_lsn()::text"))!.Value;
            await pair.UntilAsync(() => pair.Engine.CaptureStatuses is [{ } capture] && capture.Spooled >= end);
            await pair.Source.RunAsync("CHECKPOINT");
            await pair.Target.RunAsync("CHECKPOINT");
            var (watch, cpu) = (Stopwatch.StartNew(), new CpuWatch());
            await pair.Engine.RunAsync("bench", "bench", CancellationToken.None);
            await pair.UntilAsync(() => pair.Engine.Status("bench")!.AppliedPosition >= end);
            var ours = watch.Elapsed;
            cpu.Print($"of a change caught up with, {name}", changes);
            if (CpuWatch.Alone)
            {
                continue;
            }

            await pair.Engine.PauseAsync("bench", "bench", CancellationToken.None);
            await pair.Target.RunAsync("CHECKPOINT");
            var sum = await pair.Source.AskAsync("SELECT sum(amount) FROM item");
            watch.Restart();
            await pair.Baseline.RunAsync("ALTER SUBSCRIPTION baseline ENABLE");
            await CaughtUpAsync(pair, end);
            Report.Ratio(
                $"catching up, {name}, changes/s",
                changes / ours.TotalSeconds,
                changes / watch.Elapsed.TotalSeconds,
                "built-in subscription",
                asked
            );
            Console.WriteLine(
                sum == await pair.Target.AskAsync("SELECT sum(amount) FROM item")
                && sum == await pair.Baseline.AskAsync("SELECT sum(amount) FROM item")
                    ? "all three are equal"
                    : "THE SIDES DIFFER"
            );
        }

        Console.WriteLine($"peak memory of this process {Process.GetCurrentProcess().PeakWorkingSet64 >> 20} MB (asked: under 400)");
    }

    /// <summary>The same, from the slot and with an empty spool at the start: capture, spool and apply go side by side.</summary>
    public static async Task FromSlotAsync(int changes)
    {
        await using var pair = await ServerPair.StartAsync();
        await Updates.FillAsync(pair.Source);
        await Updates.FillAsync(pair.Baseline);
        await pair.CrossAsync();
        await pair.UntilAsync(() => pair.Engine.Status("bench")!.State == CrossingState.Following);
        await pair.Engine.DisposeAsync();
        await Task.Delay(500);
        await pair.SubscribeAsync("item", enabled: false);
        await Updates.MakeAsync(pair.Source, changes, 2, hot: false);
        var end = Vestige.Connectors.PostgreSql.Lsn.Parse(await pair.Source.AskAsync("SELECT pg_current_wal_flush_lsn()::text"))!.Value;
        await pair.Source.RunAsync("CHECKPOINT");
        await pair.Target.RunAsync("CHECKPOINT");
        var watch = Stopwatch.StartNew();
        await pair.BeginAsync();
        await pair.UntilAsync(() => pair.Engine.Status("bench") is { AppliedPosition: { } applied } && applied >= end);
        var ours = watch.Elapsed;
        await pair.Engine.PauseAsync("bench", "bench", CancellationToken.None);
        await pair.Target.RunAsync("CHECKPOINT");
        watch.Restart();
        await pair.Baseline.RunAsync("ALTER SUBSCRIPTION baseline ENABLE");
        await CaughtUpAsync(pair, end);
        Report.Ratio(
            "slot to target, empty spool, changes/s",
            changes / ours.TotalSeconds,
            changes / watch.Elapsed.TotalSeconds,
            "built-in subscription",
            1.3
        );
    }

    private static async Task CaughtUpAsync(ServerPair pair, Vestige.Core.Positions.LogPosition end)
    {
        while (
            await pair.Source.AskAsync(
                $"SELECT confirmed_flush_lsn >= '{Vestige.Connectors.PostgreSql.Lsn.Format(end)}' FROM pg_replication_slots WHERE "
                    + "slot_name = 'baseline'"
            ) != "True"
        )
        {
            await Task.Delay(50);
        }
    }
}
