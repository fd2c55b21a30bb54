using System.IO.Compression;
using System.Text;
using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Engine.Ports;
using Vestige.Storage;
using Vestige.Storage.Entities;

namespace Vestige.Web.Hosting;

/// <summary>
/// Versions of tables in the store of the data folder. Schemas are compressed, which makes them about a tenth; statements are encrypted.
/// </summary>
public sealed class SchemaVersionStore(StoreFactory factory, ISpoolCipher cipher) : ISchemaVersionStore
{
    public Task AddAsync(string source, IReadOnlyList<SchemaVersion> versions, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(versions);
        return factory.ChangeAsync(
            "The versions of tables",
            async store =>
            {
                store.ChangeTracker.AutoDetectChangesEnabled = false;
                var numbers = await NumbersAsync(store, source, cancellation);
                foreach (var version in versions)
                {
                    var table = version.Table.ToText();
                    numbers[table] = numbers.GetValueOrDefault(table) + 1;
                    store.SchemaVersions.Add(Record(source, table, numbers[table], version));
                }

                await store.SaveChangesAsync(cancellation);
            },
            cancellation
        );
    }

    public async Task<IReadOnlyList<VersionMark>> LatestAsync(string source, CancellationToken cancellation)
    {
        await using var store = factory.CreateDbContext();
        var found = await Latest(store, source)
            .Select(version => new
            {
                version.Table,
                version.Number,
                version.Digest,
                version.What,
                version.From,
                version.Ordinal,
                version.Server,
                version.Timeline,
            })
            .ToListAsync(cancellation);
        return
        [
            .. found.Select(one => new VersionMark(
                TableName.Parse(one.Table),
                one.Number,
                one.Digest,
                one.What,
                LogPosition.Parse(one.From),
                new LogIdentity(one.Server, one.Timeline)
            )
            {
                Ordinal = one.Ordinal,
            }),
        ];
    }

    public async Task<IReadOnlyList<SchemaVersion>> OfTableAsync(string source, TableName table, CancellationToken cancellation)
    {
        await using var store = factory.CreateDbContext();
        var name = table.ToText();
        var records = await store
            .SchemaVersions.AsNoTracking()
            .Where(version => version.Source == source && version.Table == name)
            .OrderByDescending(version => version.Number)
            .ToListAsync(cancellation);
        return [.. records.Select(Read)];
    }

    public async Task<SchemaVersion?> LatestOfAsync(string source, TableName table, CancellationToken cancellation)
    {
        await using var store = factory.CreateDbContext();
        var name = table.ToText();
        var record = await store
            .SchemaVersions.AsNoTracking()
            .Where(version => version.Source == source && version.Table == name)
            .OrderByDescending(version => version.Number)
            .FirstOrDefaultAsync(cancellation);
        return record is null ? null : Read(record);
    }

    public async Task<(IReadOnlyList<SchemaVersion> Versions, int Found)> ListAsync(
        string source,
        string find,
        bool changesOnly,
        int skip,
        int take,
        CancellationToken cancellation
    )
    {
        await using var store = factory.CreateDbContext();
        var like = LikePatterns.Containing(find);
        var matching = store
            .SchemaVersions.AsNoTracking()
            .Where(version =>
                version.Source == source
                && (like == null || EF.Functions.Like(version.Table, like, "\\"))
                && (!changesOnly || version.What != "")
            );
        var records = await matching
            .OrderByDescending(version => version.Id)
            .Skip(skip)
            .Take(take)
            .Select(version => new SchemaVersionRecord
            {
                Id = version.Id,
                Source = version.Source,
                Table = version.Table,
                Number = version.Number,
                From = version.From,
                Ordinal = version.Ordinal,
                NotBefore = version.NotBefore,
                Server = version.Server,
                Timeline = version.Timeline,
                Certainty = version.Certainty,
                What = version.What,
                Changes = version.Changes,
                Digest = version.Digest,
                NoticedTicks = version.NoticedTicks,
            })
            .ToListAsync(cancellation);
        return ([.. records.Select(Read)], await matching.CountAsync(cancellation));
    }

    private static IQueryable<SchemaVersionRecord> Latest(VestigeStore store, string source) =>
        store
            .SchemaVersions.AsNoTracking()
            .Where(version =>
                version.Source == source
                && !store.SchemaVersions.Any(later =>
                    later.Source == source && later.Table == version.Table && later.Number > version.Number
                )
            );

    private static async Task<Dictionary<string, int>> NumbersAsync(VestigeStore store, string source, CancellationToken cancellation) =>
        await store
            .SchemaVersions.Where(version => version.Source == source)
            .GroupBy(version => version.Table)
            .Select(same => new { Table = same.Key, Last = same.Max(version => version.Number) })
            .ToDictionaryAsync(one => one.Table, one => one.Last, cancellation);

    private SchemaVersionRecord Record(string source, string table, int number, SchemaVersion version) =>
        new()
        {
            Source = source,
            Table = table,
            Number = number,
            From = version.From.ToString(),
            Ordinal = version.Ordinal,
            NotBefore = version.NotBefore?.ToString(),
            Server = version.Log.Server,
            Timeline = version.Log.Timeline,
            Certainty = version.Certainty.ToString(),
            What = version.What,
            Changes = JsonSerializer.Serialize(version.Changes),
            Digest = SchemaDigest.Of(version.Schema),
            Schema = version.Schema is null ? null : Compressed(JsonSerializer.SerializeToUtf8Bytes(version.Schema)),
            Statement = version.Statement is null ? null : cipher.Seal(Encoding.UTF8.GetBytes(version.Statement)),
            NoticedTicks = version.NoticedAt.UtcTicks,
        };

    private SchemaVersion Read(SchemaVersionRecord record) =>
        new(
            TableName.Parse(record.Table),
            LogPosition.Parse(record.From),
            new LogIdentity(record.Server, record.Timeline),
            Enum.Parse<VersionCertainty>(record.Certainty),
            record.Schema is null ? null : JsonSerializer.Deserialize<TableSchema>(Decompressed(record.Schema)),
            record.What,
            new DateTimeOffset(record.NoticedTicks, TimeSpan.Zero)
        )
        {
            Number = record.Number,
            Ordinal = record.Ordinal,
            NotBefore = record.NotBefore is null ? null : LogPosition.Parse(record.NotBefore),
            Changes = JsonSerializer.Deserialize<List<SchemaChange>>(record.Changes)!,
            Statement = record.Statement is null ? null : Encoding.UTF8.GetString(cipher.Open(record.Statement)),
        };

    private static byte[] Compressed(byte[] bytes)
    {
        var compressed = new byte[BrotliEncoder.GetMaxCompressedLength(bytes.Length)];
        BrotliEncoder.TryCompress(bytes, compressed, out var written, quality: 5, window: 18);
        return compressed[..written];
    }

    private static byte[] Decompressed(byte[] compressed)
    {
        using var source = new MemoryStream(compressed);
        using var brotli = new BrotliStream(source, CompressionMode.Decompress);
        using var bytes = new MemoryStream();
        brotli.CopyTo(bytes);
        return bytes.ToArray();
    }
}
