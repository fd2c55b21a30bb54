using System.Globalization;
using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;

namespace Vestige.Bench.PostgreSql;

/// <summary>CPU seconds of the source server for the same pgbench work: read by Vestige, and by the server's own receiving tool.</summary>
internal static class SourceCpu
{
    private const int Rounds = 3;
    private const double TicksPerSecond = 100;

    public static async Task RunAsync(int transactions)
    {
        await using var pair = await ServerPair.StartAsync();
        await pair.Source.Cluster.ProgramAsync("pgbench", "-i", "-q", "-s", "5", pair.Source.Name);
        await pair.Source.RunAsync("ALTER TABLE pgbench_history ADD COLUMN id bigserial PRIMARY KEY");
        await pair.CrossAsync();
        await pair.UntilAsync(() => pair.Engine.Status("bench")!.State == CrossingState.Following);
        var (ours, theirs) = (new List<double>(), new List<double>());
        for (var round = 0; round < Rounds; round++)
        {
            ours.Add(
                await WorkAsync(pair, transactions, async () =>
                    await pair.UntilAsync(() => pair.Engine.Status("bench") is { Lag.Current: true })
                )
            );
            await pair.Engine.PauseAsync("bench", "bench", CancellationToken.None);
            await pair.Engine.DisposeAsync();
            await pair.Source.RunAsync("SELECT pg_create_logical_replication_slot('bare', 'pgoutput')");
            var tool = pair.Source.Cluster.ProgramAsync(
                "pg_recvlogical",
                "-d",
                pair.Source.Name,
                "-S",
                "bare",
                "--start",
                "-f",
                "/dev/null",
                "-o",
                "proto_version=1",
                "-o",
                $"publication_names={pair.Source.Names.Publication}",
                "--no-loop"
            );
            theirs.Add(await WorkAsync(pair, transactions, () => Task.Delay(1500)));
            await pair.Source.RunAsync("SELECT pg_terminate_backend(active_pid) FROM pg_replication_slots WHERE slot_name = 'bare'");
            try
            {
                await tool;
            }
            catch (InvalidOperationException)
            {
                // It says that it was ended.
            }

            await pair.Source.RunAsync("SELECT pg_drop_replication_slot('bare')");
            await pair.BeginAsync();
            await pair.Engine.RunAsync("bench", "bench", CancellationToken.None);
            await pair.UntilAsync(() => pair.Engine.Status("bench") is { Lag.Current: true });
        }

        var (mine, other) = (ours.Order().ElementAt(Rounds / 2), theirs.Order().ElementAt(Rounds / 2));
        Console.WriteLine(
            $"source CPU for {transactions} pgbench transactions: {mine:0.0} s; with pg_recvlogical {other:0.0} s; ratio "
                + $"{mine / other:0.00} (asked: at most 1.10)"
        );
    }

    private static async Task<double> WorkAsync(ServerPair pair, int transactions, Func<Task> settled)
    {
        var before = Spent(pair.Source.Cluster);
        await pair.Source.Cluster.ProgramAsync(
            "pgbench",
            "-n",
            "-c",
            "2",
            "-t",
            (transactions / 2).ToString(CultureInfo.InvariantCulture),
            pair.Source.Name
        );
        await settled();
        return Spent(pair.Source.Cluster) - before;
    }

    /// <summary>What the server's processes used: those that live, and those whose end it has seen (Linux, proc(5)).</summary>
    private static double Spent(Cluster cluster)
    {
        var server = File.ReadLines(Path.Combine(cluster.Data, "postmaster.pid")).First().Trim();
        var ticks = 0L;
        foreach (var folder in Directory.EnumerateDirectories("/proc").Where(folder => char.IsAsciiDigit(Path.GetFileName(folder)[0])))
        {
            try
            {
                var stat = File.ReadAllText(Path.Combine(folder, "stat"));
                var fields = stat[(stat.LastIndexOf(')') + 2)..].Split(' ');
                if (Path.GetFileName(folder) == server)
                {
                    ticks += fields[11..15].Sum(field => long.Parse(field, CultureInfo.InvariantCulture));
                }
                else if (fields[1] == server)
                {
                    ticks += fields[11..13].Sum(field => long.Parse(field, CultureInfo.InvariantCulture));
                }
            }
            catch (IOException)
            {
                // It has ended meanwhile.
            }
        }

        return ticks / TicksPerSecond;
    }
}
