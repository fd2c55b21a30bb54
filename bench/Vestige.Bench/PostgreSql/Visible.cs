using System.Diagnostics;
using Npgsql;
using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;

namespace Vestige.Bench.PostgreSql;

/// <summary>
/// From the commit to being visible on the target, at 100 transactions/s, against the server's own subscription, which writes no spool.
/// </summary>
internal static class Visible
{
    private static readonly TimeSpan Between = TimeSpan.FromMilliseconds(10);

    public static async Task RunAsync(int seconds)
    {
        await using var pair = await ServerPair.StartAsync();
        const string Form = "CREATE TABLE probe (id int PRIMARY KEY, note text)";
        await pair.Source.RunAsync(Form);
        await pair.CrossAsync();
        await pair.UntilAsync(() => pair.Engine.Status("bench")!.State == CrossingState.Following);
        await MeasureAsync(pair.Source, pair.Target, 0, 3);
        var ours = await MeasureAsync(pair.Source, pair.Target, 1_000_000, seconds);
        if (CpuWatch.Alone)
        {
            Console.WriteLine($"TIME from commit to visible, p50 {At(ours, 0.5):0.000} ms");
            return;
        }

        await pair.Engine.PauseAsync("bench", "bench", CancellationToken.None);
        await pair.Baseline.RunAsync(Form);
        await pair.SubscribeAsync("probe", enabled: true);
        await MeasureAsync(pair.Source, pair.Baseline, 2_000_000, 3);
        var theirs = await MeasureAsync(pair.Source, pair.Baseline, 3_000_000, seconds);
        foreach (var (name, share, allowed) in new[] { ("p50", 0.5, 5.0), ("p99", 0.99, 20.0) })
        {
            var (mine, other) = (At(ours, share), At(theirs, share));
            Console.WriteLine(
                $"commit to visible, {name}: {mine:0.0} ms; built-in subscription {other:0.0} ms; {mine - other:0.0} ms more (asked: "
                    + $"at most {allowed:0})"
            );
        }
    }

    private static double At(List<double> values, double share) =>
        values.Order().ElementAt(Math.Min(values.Count - 1, (int)Math.Ceiling(values.Count * share) - 1));

    /// <summary>Commits at a steady rate, and looks on the target all the while; milliseconds of each transaction.</summary>
    private static async Task<List<double>> MeasureAsync(Database source, Database target, int first, int seconds)
    {
        var count = (int)(seconds / Between.TotalSeconds);
        var committed = new long[count];
        var seen = new List<double>(count);
        var writing = WriteAsync(source, first, committed);
        await using var connection = await target.OpenAsync();
        await using var look = new NpgsqlCommand($"SELECT count(*) FROM probe WHERE id >= {first} AND id < {first + count}", connection);
        await look.PrepareAsync();
        while (seen.Count < count)
        {
            var there = (long)(await look.ExecuteScalarAsync())!;
            var now = Stopwatch.GetTimestamp();
            while (seen.Count < there)
            {
                seen.Add(Math.Max(0, Stopwatch.GetElapsedTime(Volatile.Read(ref committed[seen.Count]), now).TotalMilliseconds));
            }

            Thread.Sleep(TimeSpan.FromMicroseconds(200));
        }

        await writing;
        return seen;
    }

    private static async Task WriteAsync(Database source, int first, long[] committed)
    {
        await using var connection = await source.OpenAsync();
        await using var insert = new NpgsqlCommand("INSERT INTO probe VALUES ($1, 'a note')", connection)
        {
            Parameters = { new NpgsqlParameter<int>() },
        };
        await insert.PrepareAsync();
        var began = Stopwatch.GetTimestamp();
        for (var i = 0; i < committed.Length; i++)
        {
            var due = (i * Between) - Stopwatch.GetElapsedTime(began);
            if (due > TimeSpan.Zero)
            {
                await Task.Delay(due);
            }

            ((NpgsqlParameter<int>)insert.Parameters[0]).TypedValue = first + i;
            Volatile.Write(ref committed[i], long.MaxValue);
            await insert.ExecuteNonQueryAsync();
            Volatile.Write(ref committed[i], Stopwatch.GetTimestamp());
        }
    }
}
