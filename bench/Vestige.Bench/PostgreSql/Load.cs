using System.Diagnostics;
using Vestige.Core.Crossings;

namespace Vestige.Bench.PostgreSql;

/// <summary>The initial load of one table of mixed rows, all included, against two psql with a binary COPY between them into the same table with its key.</summary>
internal static class Load
{
    public static async Task RunAsync(int rows)
    {
        await using var pair = await ServerPair.StartAsync();
        const string Form = "CREATE TABLE item (id int8 PRIMARY KEY, code text NOT NULL, amount numeric(12,2), made timestamptz, kind int4, note text)";
        await pair.Source.RunAsync($"{Form}; INSERT INTO item SELECT i, 'code ' || i, i / 7.0, '2026-01-01'::timestamptz + i * interval '1 second', i % 50, repeat('note ', i % 12) FROM generate_series(1, {rows}) i");
        await pair.Source.RunAsync("VACUUM ANALYZE item");
        await pair.Baseline.RunAsync(Form);
        await pair.Source.RunAsync("CHECKPOINT");
        var watch = Stopwatch.StartNew();
        await pair.PipeAsync("item");
        var plain = watch.Elapsed;
        await pair.Baseline.RunAsync("CHECKPOINT");
        watch.Restart();
        await pair.CrossAsync();
        await pair.UntilAsync(() => pair.Engine.Status("bench")!.State == CrossingState.Following);
        Report.Ratio("load, rows/s", rows / watch.Elapsed.TotalSeconds, rows / plain.TotalSeconds, "psql | psql", 0.95);
        Console.WriteLine(await pair.Source.DigestAsync("item") == await pair.Target.DigestAsync("item") ? "both sides are equal" : "THE SIDES DIFFER");
    }
}
