using System.Diagnostics;
using Vestige.Connectors.StandIn.Bench;
using Vestige.Core.Crossings;

namespace Vestige.Bench;

/// <summary>
/// The process's memory while two million rows are loaded and one transaction of a million rows follows, beside its memory before.
/// </summary>
internal static class PeakMemory
{
    public static async Task RunAsync(int rows, int changes)
    {
        await using var all = new BenchDatabases();
        await StandInBench.RunAsync(
            all.Source,
            "CREATE TABLE item (id INTEGER PRIMARY KEY, name TEXT NOT NULL, note TEXT)",
            TimeProvider.System,
            CancellationToken.None
        );
        for (var from = 0; from < rows; from += 100_000)
        {
            using var transaction = await all.Source.BeginAsync();
            for (var id = from; id < Math.Min(rows, from + 100_000); id++)
            {
                transaction.Run("INSERT INTO item VALUES (?, ?, 'a note of the usual length, invented')", id, $"item number {id}");
            }

            transaction.Commit();
        }

        await all.Engine.StartAsync(CancellationToken.None);
        await all.Engine.DefineAsync(
            new CrossingDefinition("bench", CrossingDefinition.Copy, "a", "b", new TableRules([new TableRule(Take: "a.*")])),
            "bench",
            CancellationToken.None
        );
        var before = Resident();
        var peak = before;
        using var stop = new CancellationTokenSource();
        var watching = Task.Run(async () =>
        {
            while (!stop.IsCancellationRequested)
            {
                peak = Math.Max(peak, Resident());
                await Task.Delay(20);
            }
        });
        var watch = Stopwatch.StartNew();
        await all.Engine.RunAsync("bench", "bench", CancellationToken.None);
        await WaitAsync(() => all.Engine.Status("bench")!.State == CrossingState.Following);
        Console.WriteLine(
            $"load of {rows} rows: {watch.Elapsed.TotalSeconds:0.0} s, {rows / watch.Elapsed.TotalSeconds:0} rows/s, peak {peak >> 20} MB"
        );
        watch.Restart();
        using (var transaction = await all.Source.BeginAsync())
        {
            transaction.Run("UPDATE item SET note = ? WHERE id < ?", "another note of about the same length", changes);
            transaction.Commit();
        }

        var committed = watch.Elapsed;
        var head = all.Source.Head;
        await WaitAsync(() => all.Engine.Status("bench")!.AppliedPosition >= head);
        await stop.CancelAsync();
        await watching;
        Console.WriteLine(
            $"one transaction of {changes} changes: {committed.TotalSeconds:0.0} s at the source, there "
                + $"{(watch.Elapsed - committed).TotalSeconds:0.0} s later"
        );
        Console.WriteLine(
            $"resident memory: {before >> 20} MB before, {peak >> 20} MB at most, ratio {(double)peak / before:0.00}  (asked: under 350 MB)"
        );
    }

    private static long Resident()
    {
        using var process = Process.GetCurrentProcess();
        return process.WorkingSet64;
    }

    private static async Task WaitAsync(Func<bool> holds)
    {
        while (!holds())
        {
            await Task.Delay(20);
        }
    }
}
