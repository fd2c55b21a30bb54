using System.Diagnostics;
using Vestige.Core.Crossings;
using Vestige.Engine.Reconciling;

namespace Vestige.Bench.PostgreSql;

/// <summary>
/// Comparing two tables, all included, against both servers at once computing the same digest of the whole table in one query.
/// First they are equal, then 100 rows differ that are scattered over the keys.
/// </summary>
internal static class Compare
{
    private const int Rounds = 3;
    private const int Scattered = 100;

    public static async Task RunAsync(int rows)
    {
        await using var pair = await ServerPair.StartAsync();
        await pair.Source.RunAsync(
            "CREATE TABLE item (id int8 PRIMARY KEY, code text NOT NULL, amount numeric(12,2), made timestamptz, kind int4, note "
                + "text); INSERT INTO item SELECT i, 'code ' || i, i / 7.0, '2026-01-01'::timestamptz + i * interval '1 second', i % "
                + $"50, repeat('note ', i % 12) FROM generate_series(1, {rows}) i"
        );
        await pair.Source.RunAsync("VACUUM ANALYZE");
        await pair.CrossAsync();
        await pair.UntilAsync(() => pair.Engine.Status("bench")!.State == CrossingState.Following);
        await pair.Target.RunAsync("VACUUM ANALYZE");
        await PlainAsync(pair);
        await CompareAsync(pair, 0);
        var (plain, equal, differing) = (new List<double>(), new List<double>(), new List<double>());
        for (var round = 0; round < Rounds; round++)
        {
            plain.Add(await PlainAsync(pair));
            equal.Add(await CompareAsync(pair, 0));
        }

        await pair.Target.RunAsync(
            $"UPDATE item SET kind = kind + 1 WHERE id % {rows / Scattered} = 7 AND id <= {rows / Scattered * Scattered}"
        );
        for (var round = 0; round < Rounds; round++)
        {
            differing.Add(await CompareAsync(pair, Scattered));
        }

        Report.Most($"compare {rows:N0} equal rows, s", Median(equal), Median(plain), "plain digests", 1.5);
        Report.Most($"the same with {Scattered} that differ, s", Median(differing), Median(plain), "plain digests", 2);
        Console.WriteLine($"seconds: plain {Words(plain)}; equal {Words(equal)}; differing {Words(differing)}");
        Console.WriteLine($"peak memory of this process: {Process.GetCurrentProcess().PeakWorkingSet64 >> 20} MB");
    }

    private static async Task<double> PlainAsync(ServerPair pair)
    {
        const string digest =
            "SELECT count(*)::text || sum(('x' || left(h, 16))::bit(64)::bigint) || sum(('x' || right(h, 16))::bit(64)::bigint) FROM "
            + "(SELECT md5(ROW(id, code, amount, made, kind, note)::text) AS h FROM item OFFSET 0) m";
        var watch = Stopwatch.StartNew();
        var both = await Task.WhenAll(pair.Source.AskAsync(digest), pair.Target.AskAsync(digest));
        return both[0] == both[1] ? watch.Elapsed.TotalSeconds : throw new InvalidOperationException("The tables differ.");
    }

    private static async Task<double> CompareAsync(ServerPair pair, int expected)
    {
        var watch = Stopwatch.StartNew();
        var id = await pair.Engine.Reconcile.StartAsync("bench", ComparisonScope.All, "bench", CancellationToken.None);
        await pair.UntilAsync(() => pair.Engine.Reconcile.Running("bench") is null);
        var took = watch.Elapsed.TotalSeconds;
        var found = (await pair.Engine.Reconcile.FindAsync("bench", id, CancellationToken.None))!;
        return
            found.State == ReconciliationState.Done
            && found.Tables.Sum(table => table.Rows.Count) == expected
            && found.Differences == expected
            ? took
            : throw new InvalidOperationException($"{found.Note} {found.Differences} rows were found to differ, {expected} do.");
    }

    private static string Words(List<double> seconds) => string.Join(", ", seconds.Select(one => one.ToString("0.00")));

    private static double Median(List<double> values) => values.Order().ElementAt(values.Count / 2);
}
