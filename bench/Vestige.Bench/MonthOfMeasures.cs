using Microsoft.Extensions.Logging.Abstractions;
using Vestige.Core.Lag;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Measuring;
using Vestige.Storage;
using Vestige.Web.Hosting;

namespace Vestige.Bench;

/// <summary>The disk that the measures of a month take, with the time given; a file of the same figures as text is the baseline.</summary>
internal static class MonthOfMeasures
{
    private const int Crossings = 1000;

    public static async Task RunAsync(int days)
    {
        await RunAsync(days, "drawn evenly, which packs worst", Ms);
        await RunAsync(days, "around a middle, as most are (log-normal, a deviation of 0.5)", Around);
    }

    private static async Task RunAsync(int days, string what, Func<Random, int, TimeSpan> draw)
    {
        var folder = Directory.CreateTempSubdirectory("vestige-bench-").FullName;
        try
        {
            var path = Path.Combine(folder, "store.db");
            var factory = new StoreFactory(path);
            await factory.MigrateAsync(CancellationToken.None);
            var empty = new FileInfo(path).Length;
            var (keeper, meter, random) = (
                new MeasureRecorder(new MeasureStore(factory), NullLogger.Instance),
                new CrossingMeter(),
                new Random(1)
            );
            var (now, arrived, text) = (new DateTimeOffset(2026, 3, 1, 0, 0, 0, TimeSpan.Zero), 0L, 0L);
            for (var second = 0; second < days * 86_400; second++, now = now.AddSeconds(1))
            {
                var changes = random.Next(400);
                arrived += changes;
                meter.Committed(
                    new BatchReport(
                        changes,
                        new Dictionary<TableName, TableTally>(),
                        [],
                        [new HopDelays(draw(random, 20), draw(random, 5), draw(random, 5), draw(random, 40))],
                        new LogPosition((ulong)arrived * 100)
                    ),
                    now
                );
                meter.Sample(
                    now,
                    new LagReading(draw(random, 400), Current: false, AtLeast: false),
                    draw(random, 50),
                    draw(random, 10),
                    draw(random, 90),
                    arrived,
                    changes
                );
                text += 40;
                if (now.Second == 0)
                {
                    await keeper.KeepAsync([("one", meter)], now, CancellationToken.None);
                }
            }

            await using (var store = factory.CreateDbContext())
            {
                await Microsoft.EntityFrameworkCore.RelationalDatabaseFacadeExtensions.ExecuteSqlRawAsync(
                    store.Database,
                    "PRAGMA wal_checkpoint(TRUNCATE)"
                );
            }

            var each = new FileInfo(path).Length - empty;
            Console.WriteLine($"lags and delays {what}:");
            Console.WriteLine(
                $"{days} days of one crossing: {each / 1e6:0.00} MB; of {Crossings:N0} crossings {each * Crossings / 1e9:0.00} GB  "
                    + "(asked: under 1 GB a month)"
            );
            Console.WriteLine($"the same seconds as text: {text / 1e6:0} MB each; ratio {(double)text / each:0}");
        }
        finally
        {
            Directory.Delete(folder, recursive: true);
        }
    }

    private static TimeSpan Around(Random random, int most) =>
        TimeSpan.FromMilliseconds(
            most / 4.0 * Math.Exp(0.5 * Math.Sqrt(-2 * Math.Log(1 - random.NextDouble())) * Math.Cos(2 * Math.PI * random.NextDouble()))
        );

    private static TimeSpan Ms(Random random, int most) => TimeSpan.FromMilliseconds(random.NextDouble() * most);
}
