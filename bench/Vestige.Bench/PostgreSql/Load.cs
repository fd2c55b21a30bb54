using System.Diagnostics;
using Vestige.Core.Crossings;

namespace Vestige.Bench.PostgreSql;

/// <summary>
/// The initial load, all included from the start to <em>following</em>, against two psql with a binary COPY between them
/// into the same tables with their keys. Rounds alternate, and the medians are compared: the disk makes single ones differ
/// by half.
/// </summary>
internal static class Load
{
    private const int Rounds = 5;

    /// <summary>One table of mixed rows.</summary>
    public static Task OneTableAsync(int rows) => RunAsync("load of one table, rows/s", 1, rows, 0.95);

    /// <summary>A schema of 12 tables; the pipes run one after another.</summary>
    public static Task TwelveTablesAsync(int rows) => RunAsync("load of 12 tables, rows/s", 12, rows, 1.3);

    private static async Task RunAsync(string what, int tables, int rows, double asked)
    {
        await using var pair = await ServerPair.StartAsync();
        var names = Enumerable.Range(1, tables).Select(i => $"item{i}").ToList();
        foreach (var name in names)
        {
            var form =
                $"CREATE TABLE {name} (id int8 PRIMARY KEY, code text NOT NULL, amount numeric(12,2), made timestamptz, kind int4, "
                + "note text)";
            await pair.Source.RunAsync(
                $"{form}; INSERT INTO {name} SELECT i, 'code ' || i, i / 7.0, '2026-01-01'::timestamptz + i * interval '1 second', i "
                    + $"% 50, repeat('note ', i % 12) FROM generate_series(1, {rows / tables}) i"
            );
            await pair.Baseline.RunAsync(form);
        }

        await pair.Source.RunAsync("VACUUM ANALYZE");
        await pair.WarmAsync();
        var (ours, theirs) = (new List<double>(), new List<double>());
        for (var round = 0; round < Rounds; round++)
        {
            theirs.Add(CpuWatch.Alone ? 1 : await PipeAsync(pair, names));
            ours.Add(await CrossAsync(pair, names));
        }

        Report.Ratio(what, rows / Median(ours), rows / Median(theirs), "psql | psql", asked);
        Console.WriteLine(
            $"seconds: {string.Join(", ", ours.Select(one => one.ToString("0.00")))}; psql "
                + $"{string.Join(", ", theirs.Select(one => one.ToString("0.00")))}"
        );
    }

    private static async Task<double> PipeAsync(ServerPair pair, List<string> names)
    {
        await pair.Baseline.RunAsync($"TRUNCATE {string.Join(", ", names)}; CHECKPOINT");
        var watch = Stopwatch.StartNew();
        foreach (var name in names)
        {
            await pair.PipeAsync(name);
        }

        return watch.Elapsed.TotalSeconds;
    }

    private static async Task<double> CrossAsync(ServerPair pair, List<string> names)
    {
        await pair.Target.RunAsync("CHECKPOINT");
        var (watch, cpu) = (Stopwatch.StartNew(), new CpuWatch());
        await pair.CrossAsync();
        await pair.UntilAsync(() => pair.Engine.Status("bench")!.State == CrossingState.Following);
        var took = watch.Elapsed.TotalSeconds;
        cpu.Print("of a load", 1);
        foreach (var name in names)
        {
            if (await pair.Source.DigestAsync(name) != await pair.Target.DigestAsync(name))
            {
                throw new InvalidOperationException($"{name} differs.");
            }
        }

        await pair.RemoveAsync("bench");
        await pair.Target.RunAsync($"DROP TABLE {string.Join(", ", names)}");
        return took;
    }

    private static double Median(List<double> values) => values.Order().ElementAt(values.Count / 2);
}
