using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Engine.Ports;
using Vestige.Storage;
using Vestige.Web.Hosting;
using Xunit;

namespace Vestige.Web.Tests;

/// <summary>Versions of tables in the store of a data folder.</summary>
public sealed class SchemaVersionStoreTests : IAsyncLifetime
{
    private static readonly LogIdentity Log = new("server", 3);
    private static readonly TableName Book = new("shop", "book");
    private readonly string folder = Directory.CreateTempSubdirectory("vestige-versions-").FullName;
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;
    private SchemaVersionStore store = null!;

    public async ValueTask InitializeAsync()
    {
        var factory = new StoreFactory(Path.Combine(folder, "store.db"));
        await factory.MigrateAsync(cancellation);
        store = new SchemaVersionStore(factory, new Reversing());
    }

    public ValueTask DisposeAsync()
    {
        Microsoft.Data.Sqlite.SqliteConnection.ClearAllPools();
        Directory.Delete(folder, recursive: true);
        return ValueTask.CompletedTask;
    }

    [Fact]
    public async Task A_version_is_read_back_as_it_was_kept()
    {
        var kept = Version(Book, 2, "column title was added") with
        {
            From = new LogPosition(1, 18_446_744_073_709_551_615),
            NotBefore = new LogPosition(1, 7),
            Ordinal = 3,
            Statement = "ALTER TABLE book ADD title text",
            Changes = [new SchemaChange(SchemaChangeKind.ColumnAdded, "title", After: "text")],
        };
        await store.AddAsync("a", [kept], cancellation);
        var read = Assert.Single(await store.OfTableAsync("a", Book, cancellation));
        Assert.Equivalent(kept with { Number = 1 }, read, strict: true);
        Assert.Equal("1 1 18446744073709551615 3", Shown(Assert.Single(await store.LatestAsync("a", cancellation))));
        var bytes = await File.ReadAllBytesAsync(Path.Combine(folder, "store.db"), cancellation);
        Assert.Equal(-1, bytes.AsSpan().IndexOf("ALTER TABLE book"u8));
    }

    [Fact]
    public async Task Numbers_count_within_a_table_of_a_source()
    {
        var other = new TableName("shop.eu", "book.x");
        await store.AddAsync("a", [Version(Book, 1), Version(other, 1), Version(Book, 2, "it changed")], cancellation);
        await store.AddAsync("b", [Version(Book, 1)], cancellation);
        await store.AddAsync("a", [Version(Book, 3, "it changed"), Version(Book, 0, "it was dropped")], cancellation);
        Assert.Equal([4, 3, 2, 1], (await store.OfTableAsync("a", Book, cancellation)).Select(version => version.Number));
        Assert.Equal([1], (await store.OfTableAsync("a", other, cancellation)).Select(version => version.Number));
        Assert.Null((await store.LatestOfAsync("a", Book, cancellation))!.Schema);
        Assert.Null(await store.LatestOfAsync("c", Book, cancellation));
        Assert.Equal(
            [("shop", "book", 4), ("shop.eu", "book.x", 1)],
            (await store.LatestAsync("a", cancellation)).Select(mark => (mark.Table.Schema, mark.Table.Name, mark.Number)).Order()
        );
    }

    [Theory]
    [InlineData("", true, "it changed 3|it changed 2")]
    [InlineData("", false, "it changed 3| 1|it changed 2| 1")]
    [InlineData("BOOK", false, "it changed 3|it changed 2| 1")]
    [InlineData("shop.b", true, "it changed 3|it changed 2")]
    [InlineData("%", false, "")]
    [InlineData("a_b", false, "")]
    public async Task Versions_are_listed_by_a_part_of_the_name_latest_first(string find, bool changesOnly, string expected)
    {
        await store.AddAsync(
            "a",
            [Version(Book, 1), Version(Book, 2, "it changed"), Version(new TableName("shop", "axb"), 1), Version(Book, 3, "it changed")],
            cancellation
        );
        var (versions, found) = await store.ListAsync("a", find, changesOnly, 0, 100, cancellation);
        Assert.Equal(expected, string.Join('|', versions.Select(version => $"{version.What} {version.Number}")));
        Assert.Equal(versions.Count, found);
        Assert.All(versions, version => Assert.Null(version.Schema));
        var (second, all) = await store.ListAsync("a", find, changesOnly, 1, 1, cancellation);
        Assert.Equal(found, all);
        Assert.Equal(versions.Skip(1).Take(1).Select(version => version.Number), second.Select(version => version.Number));
    }

    private static string Shown(VersionMark mark) =>
        $"{mark.Number} {mark.From.Branch} {mark.From.Offset} {mark.Ordinal}";

    private static SchemaVersion Version(TableName table, int columns, string what = "") =>
        new(
            table,
            new LogPosition((ulong)columns),
            Log,
            VersionCertainty.Exact,
            columns == 0
                ? null
                : new TableSchema(table, [.. Enumerable.Range(1, columns).Select(i => new Column($"c{i}", "text", Id: i))], [], []),
            what,
            DateTimeOffset.UnixEpoch
        );

    /// <summary>No cipher, but what it seals cannot be read as it lies there.</summary>
    private sealed class Reversing : ISpoolCipher
    {
        public byte[] Seal(ReadOnlySpan<byte> plain) => [.. plain.ToArray().Reverse()];

        public byte[] Open(ReadOnlySpan<byte> secret) => [.. secret.ToArray().Reverse()];
    }
}
