using System.Diagnostics;
using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Connectors.StandIn;
using Vestige.Connectors.StandIn.Targets;
using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Core.Reconciling;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Engine.Ports;
using Vestige.Engine.Reconciling;

namespace Vestige.Bench.PostgreSql;

/// <summary>Comparing a table of the server with its copy in a stand-in, all included, against reading the rows of both alone.</summary>
internal static class CrossEngine
{
    public static async Task RunAsync(int rows)
    {
        var folder = Directory.CreateTempSubdirectory("vestige-bench-").FullName;
        await using var cluster = await Cluster.StartAsync("fsync=off", "shared_buffers=512MB");
        var server = await cluster.MakeDatabaseAsync();
        await server.RunAsync(
            "CREATE TABLE item (id int8 PRIMARY KEY, code text NOT NULL, amount numeric(12,2), made date, kind int4, note text); "
                + "INSERT INTO item SELECT i, 'code ' || i, (i % 100000) / 100.0, '2026-01-01'::date + i % 1000, i % 50, repeat('note "
                + $"', i % 12) FROM generate_series(1, {rows}) i"
        );
        await server.RunAsync("VACUUM ANALYZE");
        await using var file = StandInDatabase.Open(Path.Combine(folder, "b.db"), "b", new StandInOptions(), TimeProvider.System);
        using (var fill = await file.BeginAsync())
        {
            fill.Run("CREATE TABLE item (id INTEGER PRIMARY KEY, code TEXT NOT NULL, amount TEXT, made DATE, kind INTEGER, note TEXT)");
            fill.Run(
                $"INSERT INTO item WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < {rows}) SELECT i, 'code "
                    + "' || i, printf('%.2f', (i % 100000) / 100.0), date('2026-01-01', '+' || (i % 1000) || ' days'), i % 50, "
                    + "substr('note note note note note note note note note note note ', 1, 5 * (i % 12)) FROM n"
            );
            fill.Commit();
        }

        await using var source = server.Source();
        var target = new StandInTarget(file, TimeProvider.System);
        await using var here = await source.OpenViewAsync(0, CancellationToken.None);
        await using var there = await target.OpenViewAsync("bench", CancellationToken.None);
        var form = (await here.ReadTablesAsync(CancellationToken.None)).Single().Schema;
        var definition = new CrossingDefinition("bench", CrossingDefinition.Copy, "a", "b", new TableRules([new TableRule(Take: "*")]));
        var treatment = TreatmentBuilder.Build(definition, form, target.NameFor, source.Types, new BenchKeys(), target.Types).Treatment!;
        var tables = ComparedTable.Of(treatment, source.Types, target.Types);
        for (var round = 0; round < 3; round++)
        {
            var watch = Stopwatch.StartNew();
            var read = await Task.WhenAll(
                Task.Run(() => CountAsync(here, form)),
                Task.Run(() => CountAsync(there, tables[0].Target.Table))
            );
            var alone = rows / watch.Elapsed.TotalSeconds;
            watch.Restart();
            var found = (
                await new TableComparer(treatment, tables, here, there, [], new LogPosition(1), TimeProvider.System, 10_000).RunAsync(
                    KeySpan.All,
                    rows,
                    CancellationToken.None
                )
            ).Single();
            var compared = rows / watch.Elapsed.TotalSeconds;
            if (!found.IsEqual || found.SourceRows != rows || read.Any(count => count != rows))
            {
                throw new InvalidOperationException($"They differ: {found.Reason} {found.Missing} {found.Extra} {found.Differing}");
            }

            Report.Ratio("rows/s of a pair of tables of two engines compared", compared, alone, "reading alone", 0);
            Console.WriteLine("(asked: at least 200 000 rows/s on two cores)");
        }

        Directory.Delete(folder, recursive: true);
    }

    private static async Task<long> CountAsync(IRowsView view, TableSchema table)
    {
        long rows = 0;
        await foreach (var block in view.ReadAsync(table, KeySpan.All, CancellationToken.None))
        {
            rows += block.Count;
        }

        return rows;
    }
}
