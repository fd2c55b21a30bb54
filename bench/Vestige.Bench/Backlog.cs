using System.Diagnostics;
using Vestige.Connectors.StandIn;
using Vestige.Core.Crossings;

namespace Vestige.Bench;

/// <summary>
/// A backlog in transactions of four changes, from one stand-in to another: once through capture, spool, fold and apply,
/// once by one plain loop that applies the same transactions one by one with prepared statements. Both targets commit with
/// the same durability and keep their own log.
/// </summary>
internal static class Backlog
{
    private const int Rows = 100_000;
    private const int PerTransaction = 4;

    public static async Task RunAsync(int changes)
    {
        await using var all = new BenchDatabases();
        foreach (var database in new[] { all.Source, all.Plain })
        {
            await FillAsync(database);
        }

        await all.Engine.StartAsync(CancellationToken.None);
        await all.Engine.DefineAsync(
            new CrossingDefinition("bench", CrossingDefinition.Copy, "a", "b", new TableRules([new TableRule(Take: "a.*")])),
            "bench",
            CancellationToken.None
        );
        await all.Engine.RunAsync("bench", "bench", CancellationToken.None);
        await WaitAsync(() => all.Engine.Status("bench")!.State == CrossingState.Following);
        await all.Engine.PauseAsync("bench", "bench", CancellationToken.None);
        all.Source.Drills.ReaderStopped = true;
        await Task.Delay(600);

        Console.WriteLine($"Making a backlog of {changes} changes in transactions of {PerTransaction} ...");
        var transactions = changes / PerTransaction;
        await ApplyAsync(all.Source, transactions);
        var head = all.Source.Head;

        // Capture waits out the stopped reader with growing pauses; the clock starts when it reads again.
        all.Source.Drills.ReaderStopped = false;
        await WaitAsync(() => all.Engine.CaptureStatuses[0].Running);
        var (watch, cpu) = (Stopwatch.StartNew(), new CpuWatch());
        await all.Engine.RunAsync("bench", "bench", CancellationToken.None);
        await WaitAsync(() => all.Engine.Status("bench")!.AppliedPosition >= head);
        var whole = watch.Elapsed;
        cpu.Print("of a change through the whole way", changes);
        if (CpuWatch.Alone)
        {
            return;
        }

        watch.Restart();
        await ApplyAsync(all.Plain, transactions);
        var plain = watch.Elapsed;
        Console.WriteLine($"through the whole way   {changes / whole.TotalSeconds,10:0} changes/s  ({whole.TotalSeconds:0.0} s)");
        Console.WriteLine($"one plain loop          {changes / plain.TotalSeconds,10:0} changes/s  ({plain.TotalSeconds:0.0} s)");
        Console.WriteLine($"ratio                   {plain / whole,10:0.00}  (asked: at least 1)");
    }

    private static async Task FillAsync(StandInDatabase database)
    {
        using var transaction = await database.BeginAsync();
        transaction.Run("CREATE TABLE item (id INTEGER PRIMARY KEY, name TEXT NOT NULL, amount INTEGER NOT NULL)");
        for (var id = 1; id <= Rows; id++)
        {
            transaction.Run("INSERT INTO item VALUES (?, ?, 0)", id, $"item number {id}");
        }

        transaction.Commit();
    }

    /// <summary>The same transactions for the same seed: two updates, an insert and a delete of what was inserted before.</summary>
    private static async Task ApplyAsync(StandInDatabase database, int transactions)
    {
        var random = new Random(4);
        for (var i = 0; i < transactions; i++)
        {
            using var transaction = await database.BeginAsync();
            transaction.Run("UPDATE item SET amount = amount + 1 WHERE id = ?", 1 + random.Next(Rows));
            transaction.Run("UPDATE item SET name = ? WHERE id = ?", $"named in {i}", 1 + random.Next(Rows));
            transaction.Run("INSERT INTO item VALUES (?, 'inserted', 1)", Rows + 10 + i);
            transaction.Run("DELETE FROM item WHERE id = ?", i < 20 ? 1 : Rows + 10 + i - 20);
            transaction.Commit();
        }
    }

    private static async Task WaitAsync(Func<bool> holds)
    {
        while (!holds())
        {
            await Task.Delay(25);
        }
    }
}
