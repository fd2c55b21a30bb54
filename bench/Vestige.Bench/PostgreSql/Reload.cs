using System.Diagnostics;
using System.Globalization;
using System.Text.RegularExpressions;
using Vestige.Core.Crossings;
using Vestige.Core.Schemas;

namespace Vestige.Bench.PostgreSql;

/// <summary>
/// One table is loaded again in place beside pgbench at 30 % of what it reaches alone: how late the other tables are meanwhile, and how
/// fast it is beside a first load of the same rows, both with the same going on.
/// </summary>
internal static partial class Reload
{
    private const double Share = 0.3;
    private static readonly TableName Item = new("public", "item");

    public static async Task RunAsync(int rows)
    {
        await using var pair = await ServerPair.StartAsync();
        await pair.Source.RunAsync(
            "CREATE TABLE item (id int8 PRIMARY KEY, code text NOT NULL, amount numeric(12,2), made timestamptz, kind int4, note text); "
                + "INSERT INTO item SELECT i, 'code ' || i, i / 7.0, '2026-01-01'::timestamptz + i * interval '1 second', i % 50, "
                + $"repeat('note ', i % 12) FROM generate_series(1, {rows}) i"
        );
        await pair.Source.RunAsync("CREATE SCHEMA first; CREATE TABLE first.item (LIKE item INCLUDING ALL)");
        await pair.Source.RunAsync("INSERT INTO first.item TABLE item");
        await pair.Source.Cluster.ProgramAsync("pgbench", "-i", "-q", "-s", "10", pair.Source.Name);
        await pair.Source.RunAsync("ALTER TABLE pgbench_history ADD COLUMN id bigserial PRIMARY KEY");
        await pair.Source.RunAsync("VACUUM ANALYZE");
        await pair.WarmAsync();
        var alone = await FirstLoadAsync(pair);
        await pair.CrossAsync();
        await pair.UntilAsync(() => IsFollowing(pair));
        await PgbenchAsync(pair, 5);
        var most = await PgbenchAsync(pair, 10);
        using var ending = new CancellationTokenSource();
        var writing = WriteAsync(pair, (int)(most * Share), ending.Token);
        await Task.Delay(TimeSpan.FromSeconds(5));
        var beside = await FirstLoadAsync(pair);
        var quiet = await LagAsync(pair, Task.Delay(TimeSpan.FromSeconds(10)));
        Console.WriteLine($"pgbench {most:0}/s alone, {most * Share:0}/s beside; lag p99 of the others without a load {quiet:0.000} s");
        for (var round = 0; round < 3; round++)
        {
            await TidyAsync(pair);
            await ReloadAsync(pair, rows, (alone, beside), "all rows equal", 0.5);
            await pair.Target.RunAsync("UPDATE item SET code = code || ' differs'");
            await TidyAsync(pair);
            await ReloadAsync(pair, rows, (alone, beside), "all rows other", 0.2);
        }

        await ending.CancelAsync();
        await writing;
        await pair.UntilAsync(() => IsFollowing(pair) && pair.Engine.Status("bench")!.Lag is { Current: true });
        if (await pair.Source.DigestAsync("item") != await pair.Target.DigestAsync("item"))
        {
            throw new InvalidOperationException("item differs.");
        }
    }

    /// <summary>What a server does by itself in time: no round pays for the rows of the one before.</summary>
    private static async Task TidyAsync(ServerPair pair)
    {
        await pair.Target.RunAsync("VACUUM item");
        await pair.Target.RunAsync("CHECKPOINT");
    }

    private static async Task<double> FirstLoadAsync(ServerPair pair)
    {
        var best = double.MaxValue;
        for (var round = 0; round < 3; round++)
        {
            await pair.Target.RunAsync("DROP TABLE IF EXISTS first.item; CHECKPOINT");
            var watch = Stopwatch.StartNew();
            await pair.CrossAsync("first", "first.*");
            await pair.UntilAsync(() => pair.Engine.Status("first")!.State == CrossingState.Following, "first");
            best = Math.Min(best, watch.Elapsed.TotalSeconds);
            await pair.RemoveAsync("first");
        }

        return best;
    }

    private static async Task ReloadAsync(ServerPair pair, int rows, (double Alone, double Beside) first, string what, double asked)
    {
        var watch = Stopwatch.StartNew();
        await pair.Engine.ReloadAsync("bench", [Item], "bench", CancellationToken.None);
        var loading = pair.UntilAsync(() => IsFollowing(pair));
        var lag = await LagAsync(pair, loading);
        var took = watch.Elapsed.TotalSeconds;
        Report.Ratio($"reload in place, {what}, rows/s", rows / took, rows / first.Beside, "first load beside the same", asked);
        Console.WriteLine(
            $"  {took:0.0} s; {first.Alone / took:0.00} of a first load with nothing else going on; lag p99 of the other tables "
                + $"{lag:0.000} s (asked: under 2 s)"
        );
    }

    private static bool IsFollowing(ServerPair pair) =>
        pair.Engine.Status("bench") is { State: CrossingState.Following } status
        && status.Tables.All(table => table.State == TableState.Following);

    /// <summary>The 99th percentile of how late the others are while something lasts.</summary>
    private static async Task<double> LagAsync(ServerPair pair, Task lasting)
    {
        var seen = new List<double>();
        while (!lasting.IsCompleted)
        {
            seen.Add(pair.Engine.Status("bench")!.Lag?.Behind.TotalSeconds ?? 0);
            await Task.Delay(20);
        }

        await lasting;
        return seen.Order().ElementAt(Math.Max(0, (int)Math.Ceiling(0.99 * seen.Count) - 1));
    }

    private static async Task WriteAsync(ServerPair pair, int perSecond, CancellationToken ending)
    {
        while (!ending.IsCancellationRequested)
        {
            await pair.Source.Cluster.ProgramAsync(
                "pgbench",
                "-c",
                "2",
                "-R",
                perSecond.ToString(CultureInfo.InvariantCulture),
                "-T",
                "20",
                "-n",
                pair.Source.Name
            );
        }
    }

    private static async Task<double> PgbenchAsync(ServerPair pair, int seconds)
    {
        var length = seconds.ToString(CultureInfo.InvariantCulture);
        var text = await pair.Source.Cluster.ProgramAsync("pgbench", "-c", "2", "-T", length, "-n", pair.Source.Name);
        return double.Parse(Tps().Match(text).Groups["tps"].Value, CultureInfo.InvariantCulture);
    }

    [GeneratedRegex("tps = (?<tps>[0-9.]+)", RegexOptions.ExplicitCapture, matchTimeoutMilliseconds: 1000)]
    private static partial Regex Tps();
}
