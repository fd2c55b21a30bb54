using System.Diagnostics;
using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Connectors.StandIn;
using Vestige.Connectors.StandIn.Sources;
using Vestige.Core.Changes;
using Vestige.Core.Reconciling;
using Vestige.Engine.Ports;

namespace Vestige.Bench.PostgreSql;

/// <summary>Digests of one table in two unlike engines, both streamed at once and written in the canonical form, against reading the rows alone.</summary>
internal static class Unlike
{
    public static async Task RunAsync(int rows)
    {
        var folder = Directory.CreateTempSubdirectory("vestige-bench-").FullName;
        await using var cluster = await Cluster.StartAsync("fsync=off", "shared_buffers=512MB");
        var server = await cluster.MakeDatabaseAsync();
        await server.RunAsync($"CREATE TABLE item (id int8 PRIMARY KEY, code text NOT NULL, amount numeric(12,2), made date, kind int4, note text); INSERT INTO item SELECT i, 'code ' || i, (i % 100000) / 100.0, '2026-01-01'::date + i % 1000, i % 50, repeat('note ', i % 12) FROM generate_series(1, {rows}) i");
        await server.RunAsync("VACUUM ANALYZE");
        await using var file = StandInDatabase.Open(Path.Combine(folder, "b.db"), "b", new StandInOptions(), TimeProvider.System);
        using (var fill = await file.BeginAsync())
        {
            fill.Run("CREATE TABLE item (id INTEGER PRIMARY KEY, code TEXT NOT NULL, amount NUMERIC, made DATE, kind INTEGER, note TEXT)");
            fill.Run($"INSERT INTO item WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < {rows}) SELECT i, 'code ' || i, (i % 100000) / 100.0, date('2026-01-01', '+' || (i % 1000) || ' days'), i % 50, substr('note note note note note note note note note note note ', 1, 5 * (i % 12)) FROM n");
            fill.Commit();
        }

        await using var source = server.Source();
        var standIn = new StandInSource(file, TimeProvider.System);
        await using var here = await source.OpenViewAsync(CancellationToken.None);
        await using var there = await standIn.OpenViewAsync(CancellationToken.None);
        var (one, other) = ((await here.ReadTablesAsync(CancellationToken.None)).Single().Schema, (await there.ReadTablesAsync(CancellationToken.None)).Single().Schema);
        var pairs = one.Columns.Zip(other.Columns, (left, right) => CanonicalColumn.Of(left, source.Types.MeaningOf(left), right, standIn.Types.MeaningOf(right))!.Value).ToList();
        var (mine, its) = (new CanonicalForm([.. pairs.Select(pair => pair.Here)]), new CanonicalForm([.. pairs.Select(pair => pair.There)]));
        for (var round = 0; round < 2; round++)
        {
            var watch = Stopwatch.StartNew();
            var read = await Task.WhenAll(Task.Run(() => DigestAsync(here, new RowShape(one, [], []), null)), Task.Run(() => DigestAsync(there, new RowShape(other, [], []), null)));
            var alone = rows / watch.Elapsed.TotalSeconds;
            watch.Restart();
            var columns = Enumerable.Range(0, pairs.Count).ToList();
            var both = await Task.WhenAll(Task.Run(() => DigestAsync(here, new RowShape(one, columns, [0]), mine)), Task.Run(() => DigestAsync(there, new RowShape(other, columns, [0]), its)));
            var digested = rows / watch.Elapsed.TotalSeconds;
            if (both[0] != both[1] || both[0].Count != rows || read[0].Count != rows)
            {
                throw new InvalidOperationException("The digests differ.");
            }

            Report.Ratio("rows/s of a pair of unlike tables", digested, alone, "reading alone", 0);
            Console.WriteLine("(asked: at least 200 000 rows/s on two cores)");
        }

        Directory.Delete(folder, recursive: true);
    }

    private static async Task<Digest> DigestAsync(IRowsView view, RowShape shape, IRowForm? form)
    {
        var (digest, hash) = (Digest.Empty, form is null ? null : new RowHash(form));
        await foreach (var block in view.ReadAsync(shape.Table, KeySpan.All, CancellationToken.None))
        {
            for (var reader = new ChangeReader(block.Rows); reader.TryRead(out var change);)
            {
                digest = digest.With(hash?.Of(change.After, shape.Columns) ?? 0);
            }
        }

        return digest;
    }
}
