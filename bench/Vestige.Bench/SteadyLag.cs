using System.Diagnostics;
using Vestige.Core.Crossings;

namespace Vestige.Bench;

/// <summary>Delay per transaction at 500 transactions a second, beside the time that one commit takes on this disk.</summary>
internal static class SteadyLag
{
    private const int PerSecond = 500;

    public static async Task RunAsync(TimeSpan length)
    {
        await using var all = new BenchDatabases();
        foreach (var database in new[] { all.Source, all.Plain })
        {
            using var transaction = await database.BeginAsync();
            transaction.Run("CREATE TABLE item (id INTEGER PRIMARY KEY, name TEXT NOT NULL)");
            transaction.Commit();
        }

        await all.Engine.StartAsync(CancellationToken.None);
        await all.Engine.DefineAsync(
            new CrossingDefinition("bench", CrossingDefinition.Copy, "a", "b", new TableRules([new TableRule(Take: "a.*")])),
            "bench",
            CancellationToken.None
        );
        await all.Engine.RunAsync("bench", "bench", CancellationToken.None);
        var commits = new List<double>();
        var watch = Stopwatch.StartNew();
        for (var i = 0L; watch.Elapsed < length; i++)
        {
            var due = TimeSpan.FromSeconds((double)i / PerSecond);
            if (due > watch.Elapsed)
            {
                await Task.Delay(due - watch.Elapsed);
            }

            var began = Stopwatch.GetTimestamp();
            using var transaction = await all.Source.BeginAsync();
            transaction.Run("INSERT INTO item VALUES (?, ?)", i, $"item {i}");
            transaction.Commit();
            commits.Add(Stopwatch.GetElapsedTime(began).TotalMilliseconds);
        }

        await Task.Delay(1000);
        var meter = all.Engine.Meter("bench")!;
        var now = DateTimeOffset.UtcNow;
        commits.Sort();
        Console.WriteLine($"{commits.Count / length.TotalSeconds:0} transactions/s for {length.TotalSeconds:0} s");
        foreach (var q in new[] { 0.5, 0.95, 0.99 })
        {
            var commit = commits[Math.Max(0, (int)Math.Ceiling(q * commits.Count) - 1)];
            var delay = meter.Delay(q, now)!.Value.TotalMilliseconds;
            Console.WriteLine(
                $"p{q * 100:0}: delay {delay,8:0.0} ms   one commit at the source {commit,8:0.0} ms   ratio {delay / commit:0.0}"
            );
        }

        Console.WriteLine("asked: p99 under 250 ms");
    }
}
