using System.Diagnostics;
using Vestige.Core.Crossings;

namespace Vestige.Bench.PostgreSql;

/// <summary>
/// A backlog of the log into the spool, against the server's own receiving tool writing to nowhere; in small and in large transactions.
/// </summary>
internal static class Drain
{
    public static async Task RunAsync(int changes)
    {
        foreach (var (name, perTransaction) in new[] { ("small", 2), ("large", 50_000) })
        {
            await using var pair = await ServerPair.StartAsync();
            await Updates.FillAsync(pair.Source);
            await pair.CrossAsync();
            await pair.UntilAsync(() => pair.Engine.Status("bench")!.State == CrossingState.Following);
            await pair.Engine.PauseAsync("bench", "bench", CancellationToken.None);
            await pair.Engine.DisposeAsync();
            await Task.Delay(500);
            await pair.Source.RunAsync($"SELECT pg_copy_logical_replication_slot('{pair.Source.Names.Slot}', 'baseline')");
            await Updates.MakeAsync(pair.Source, changes, perTransaction, hot: false);
            var head = await pair.Source.AskAsync("SELECT pg_current_wal_flush_lsn()::text");
            var watch = Stopwatch.StartNew();
            await (CpuWatch.Alone ? Task.CompletedTask : pair.Source.Cluster.ProgramAsync(
                "pg_recvlogical",
                "-d",
                pair.Source.Name,
                "-S",
                "baseline",
                "--start",
                "-f",
                "/dev/null",
                "--endpos",
                head,
                "-o",
                "proto_version=1",
                "-o",
                $"publication_names={pair.Source.Names.Publication}",
                "--no-loop"
            ));
            var plain = watch.Elapsed;
            watch.Restart();
            var cpu = new CpuWatch();
            await pair.BeginAsync();
            var end = Vestige.Connectors.PostgreSql.Lsn.Parse(head)!.Value;
            await pair.UntilAsync(() =>
                pair.Engine.CaptureStatuses is [{ } capture]
                && capture.Captured >= end
                && capture.Spooled.Offset + (1 << 20) >= capture.Captured.Offset
            );
            cpu.Print($"of a change drained, {name}", changes);
            Report.Ratio(
                $"drain, {name} transactions, changes/s",
                changes / watch.Elapsed.TotalSeconds,
                changes / plain.TotalSeconds,
                "pg_recvlogical",
                0.9
            );
        }
    }
}
