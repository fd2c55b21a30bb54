using System.Buffers;
using System.Diagnostics;
using System.Security.Cryptography;
using Vestige.Core.Changes;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;
using Vestige.Engine.Tracing;
using Vestige.SpoolFiles;
using Vestige.Web.Hosting;

namespace Vestige.Bench;

/// <summary>A row found in a large spool, beside reading the spool through: the same changes must be found.</summary>
internal static class Tracing
{
    private const int PerTransaction = 5;
    private const int PerSync = 1000;
    private const int Traces = 40;
    private static readonly TableName Table = new("lib", "loan");
    private static readonly TableSchema Schema = new(
        Table,
        [new Column("id", "bigint", KeyOrdinal: 1), new Column("copy", "bigint"), new Column("due", "date"), new Column("note", "text")],
        [],
        []
    );

    public static async Task RunAsync(long changes)
    {
        var folder = Directory.CreateTempSubdirectory("vestige-bench-").FullName;
        try
        {
            var cipher = new SpoolCipher(RandomNumberGenerator.GetBytes(32));
            await using var spool = await Spool.OpenAsync(
                new SqliteSpoolFiles(folder),
                cipher,
                new SpoolOptions(BudgetBytes: long.MaxValue, SpanBytes: long.MaxValue),
                TimeProvider.System,
                CancellationToken.None
            );
            var began = Stopwatch.GetTimestamp();
            await FillAsync(spool, changes);
            Console.WriteLine(
                $"{changes:N0} changes spooled in {Stopwatch.GetElapsedTime(began).TotalSeconds:0} s, {spool.Bytes / 1e9:0.0} GB"
            );
            await MeasureAsync(spool, cipher, changes);
        }
        finally
        {
            Directory.Delete(folder, recursive: true);
        }
    }

    private static async Task MeasureAsync(Spool spool, SpoolCipher cipher, long changes)
    {
        var (trace, random, times, found) = (new SpoolTrace(spool, cipher, 200), new Random(1), new List<double>(), 0);
        for (var i = 0; i < Traces; i++)
        {
            var began = Stopwatch.GetTimestamp();
            found += (await trace.RowAsync(Table, [$"{KeyOf(random.NextInt64(changes), changes)}"], null, CancellationToken.None))
                .Changes
                .Count;
            times.Add(Stopwatch.GetElapsedTime(began).TotalSeconds);
        }

        times.Sort();
        var key = KeyOf(12345 % changes, changes);
        var through = Stopwatch.GetTimestamp();
        var counted = await ReadThroughAsync(spool, key);
        var whole = Stopwatch.GetElapsedTime(through).TotalSeconds;
        var traced = (await trace.RowAsync(Table, [$"{key}"], null, CancellationToken.None)).Changes.Count;
        Console.WriteLine(
            $"{Traces} traces, {(double)found / Traces:0.0} changes each: p50 {times[Traces / 2]:0.000} s, p95 "
                + $"{times[(Traces * 95 / 100) - 1]:0.000} s, most {times[^1]:0.000} s"
        );
        Console.WriteLine($"reading the spool through: {whole:0.0} s; the same row has {counted} changes there and {traced} in the trace");
        Console.WriteLine($"ratio {whole / times[Traces / 2]:0}  (asked: a trace under 1 s)");
    }

    private static async Task<int> ReadThroughAsync(Spool spool, long key)
    {
        var (reader, counted) = (spool.ReadAfter(LogPosition.Zero), 0);
        while (await reader.TryReadAsync(4 << 20, CancellationToken.None) is { Count: > 0 } read)
        {
            foreach (var fragment in read)
            {
                var rows = new ChangeReader(fragment.Changes);
                while (rows.TryRead(out var change))
                {
                    counted += change.After.TextAt(0) == $"{key}" ? 1 : 0;
                }
            }
        }

        return counted;
    }

    /// <summary>Each row is changed ten times, at places spread over the whole.</summary>
    private static long KeyOf(long change, long changes) => change * 7919 % Math.Max(1, changes / 10);

    private static async Task FillAsync(Spool spool, long changes)
    {
        await spool.StartAsync(new LogIdentity("bench", 1), LogPosition.Zero, CancellationToken.None);
        var (writer, forms, at) = (new RowWriter(), new Dictionary<int, TableSchema> { [1] = Schema }, 0L);
        while (at < changes)
        {
            var fragments = new List<LogFragment>();
            for (var i = 0; i < PerSync && at < changes; i += PerTransaction)
            {
                var bytes = new ArrayBufferWriter<byte>();
                for (var j = 0; j < PerTransaction; j++, at++)
                {
                    writer.Begin(4);
                    writer.Text($"{KeyOf(at, changes)}");
                    writer.Text($"{at % 1000003}");
                    writer.Text("2026-03-01");
                    writer.Text("renewed once");
                    ChangeWriter.Write(bytes, new RowChange(ChangeKind.Update, 1, default, writer.ToRow()));
                }

                fragments.Add(
                    new LogFragment(
                        new LogPosition((ulong)at * 100),
                        DateTimeOffset.UnixEpoch.AddMilliseconds(at),
                        true,
                        true,
                        PerTransaction,
                        bytes.WrittenMemory.ToArray()
                    )
                );
            }

            await spool.AppendAsync(
                new LogRead(fragments, forms, fragments[^1].Position, false),
                DateTimeOffset.UtcNow,
                CancellationToken.None
            );
            await spool.SyncAsync(CancellationToken.None);
        }
    }
}
