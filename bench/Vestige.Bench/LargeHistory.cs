using System.Diagnostics;
using System.Text.Json;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Engine.Ports;
using Vestige.Storage;
using Vestige.Web.Hosting;

namespace Vestige.Bench;

/// <summary>
/// The disk that the versions of a large schema take, and how long they take to open; the same schemas as JSON text in one file are the
/// baseline.
/// </summary>
internal static class LargeHistory
{
    private const int Versions = 10;
    private const int Columns = 30;
    private static readonly string[] Types =
    [
        "bigint",
        "integer",
        "text",
        "character varying(80)",
        "numeric(12,2)",
        "timestamp with time zone",
    ];

    public static async Task RunAsync(int tables)
    {
        var folder = Directory.CreateTempSubdirectory("vestige-bench-").FullName;
        try
        {
            var path = Path.Combine(folder, "store.db");
            var factory = new StoreFactory(path);
            await factory.MigrateAsync(CancellationToken.None);
            var store = new SchemaVersionStore(factory, new NoSecrets());
            var text = await FillAsync(store, tables, Path.Combine(folder, "text.json"));
            Console.WriteLine($"{tables} tables of {Columns} columns in {Versions} versions each");
            Report("disk, bytes", new FileInfo(path).Length, text.Bytes, "JSON text");
            await OpenAsync(store, text.Path);
        }
        finally
        {
            Directory.Delete(folder, recursive: true);
        }
    }

    private static async Task<(long Bytes, string Path)> FillAsync(SchemaVersionStore store, int tables, string path)
    {
        var random = new Random(1);
        await using var text = File.Create(path);
        for (var version = 0; version < Versions; version++)
        {
            foreach (var some in Enumerable.Range(0, tables).Chunk(2000))
            {
                List<SchemaVersion> made = [.. some.Select(table => Version(table, version, random))];
                await store.AddAsync("source", made, CancellationToken.None);
                foreach (var one in made)
                {
                    await JsonSerializer.SerializeAsync(text, one.Schema);
                    text.WriteByte((byte)'\n');
                }
            }
        }

        return (text.Length, path);
    }

    private static async Task OpenAsync(SchemaVersionStore store, string path)
    {
        var watch = Stopwatch.StartNew();
        var latest = await store.LatestAsync("source", CancellationToken.None);
        await store.ListAsync("source", "", changesOnly: true, 0, 30, CancellationToken.None);
        var opened = watch.Elapsed;
        watch.Restart();
        var lines = 0;
        await foreach (var line in File.ReadLinesAsync(path))
        {
            lines += JsonSerializer.Deserialize<TableSchema>(line) is null ? 0 : 1;
        }

        Report(
            $"opening ({latest.Count} tables, the first page of changes), seconds",
            opened.TotalSeconds,
            watch.Elapsed.TotalSeconds,
            "reading the text"
        );
        watch.Restart();
        await store.OfTableAsync("source", new TableName("public", "orders_00007"), CancellationToken.None);
        Console.WriteLine($"one table's versions: {watch.Elapsed.TotalMilliseconds:0.0} ms");
    }

    private static void Report(string what, double ours, double baseline, string named) =>
        Console.WriteLine($"{what,-70} {ours,14:0.###}   {named} {baseline:0.###}   ratio {ours / baseline:0.000}");

    private static SchemaVersion Version(int table, int version, Random random)
    {
        var name = new TableName("public", $"orders_{table:00000}");
        List<Column> columns =
        [
            .. Enumerable
                .Range(1, Columns)
                .Select(id => new Column(
                    id == version + 2 ? $"renamed_{random.Next(1000)}" : $"column_{id}_of_{table % 97}",
                    Types[(id + table) % Types.Length],
                    Nullable: id % 3 != 0,
                    KeyOrdinal: id == 1 ? 1 : 0,
                    Default: id % 7 == 0 ? "0" : null,
                    Id: id
                )),
        ];
        var schema = new TableSchema(name, columns, [], [])
        {
            Incarnation = $"{table}.{random.NextInt64():x16}{random.NextInt64():x16}",
            Stamp = $"{random.NextInt64():x16}",
        };
        return new SchemaVersion(
            name,
            new LogPosition((ulong)((version * 1_000_000) + table)),
            new LogIdentity("7300000000000000000", 1),
            VersionCertainty.Derived,
            schema,
            version == 0 ? "" : $"column column_{version + 2}_of_{table % 97} was renamed",
            DateTimeOffset.UnixEpoch
        )
        {
            NotBefore = new LogPosition((ulong)(version * 1_000_000)),
            Changes =
            [
                new SchemaChange(
                    SchemaChangeKind.ColumnRenamed,
                    $"renamed_{version}",
                    $"column_{version + 2}_of_{table % 97}",
                    $"renamed_{version}"
                ),
            ],
        };
    }

    private sealed class NoSecrets : ISpoolCipher
    {
        public byte[] Seal(ReadOnlySpan<byte> plain) => plain.ToArray();

        public byte[] Open(ReadOnlySpan<byte> secret) => secret.ToArray();
    }
}
