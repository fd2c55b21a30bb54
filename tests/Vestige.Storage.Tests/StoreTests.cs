using Microsoft.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore.Infrastructure;
using Microsoft.EntityFrameworkCore.Metadata;
using Microsoft.EntityFrameworkCore.Migrations;
using Vestige.Storage.Entities;
using Xunit;

namespace Vestige.Storage.Tests;

public sealed class StoreTests : IDisposable
{
    private readonly string folder = Directory.CreateTempSubdirectory("vestige-store-").FullName;
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    public void Dispose()
    {
        Microsoft.Data.Sqlite.SqliteConnection.ClearAllPools();
        Directory.Delete(folder, recursive: true);
    }

    [Fact]
    public async Task The_migrations_make_what_the_model_says_and_running_them_again_does_nothing()
    {
        var factory = new StoreFactory(Path.Combine(folder, "store.db"));
        await factory.MigrateAsync(cancellation);
        await factory.MigrateAsync(cancellation);
        await using var store = factory.CreateDbContext();
        Assert.False(store.Database.HasPendingModelChanges());
        store.Connections.Add(
            new ConnectionRecord
            {
                Name = "a",
                Kind = "stand-in",
                Settings = "{}",
                Secret = [1, 2],
                CreatedAt = DateTimeOffset.UnixEpoch,
            }
        );
        await store.SaveChangesAsync(cancellation);
        await using var again = factory.CreateDbContext();
        Assert.Equal([1, 2], (await again.Connections.SingleAsync(cancellation)).Secret!);
    }

    /// <summary>Where it fails: <c>dotnet ef dbcontext optimize</c>, as docs/architecture.md has it.</summary>
    [Fact]
    public void The_model_that_was_compiled_beforehand_is_the_one_the_code_says()
    {
        using var store = new StoreFactory(Path.Combine(folder, "store.db")).CreateDbContext();
        Assert.Equal("VestigeStoreModel", store.Model.GetType().Name);
        Assert.Equal(
            store.GetService<IDesignTimeModel>().Model.ToDebugString(MetadataDebugStringOptions.ShortDefault),
            store.Model.ToDebugString(MetadataDebugStringOptions.ShortDefault)
        );
    }

    [Fact]
    public async Task A_store_that_a_later_build_brought_forward_is_left_as_it_is()
    {
        var factory = new StoreFactory(Path.Combine(folder, "later.db"));
        await factory.MigrateAsync(cancellation);
        await using var store = factory.CreateDbContext();
        await store.Database.ExecuteSqlAsync(
            $"""INSERT INTO "__EFMigrationsHistory" VALUES ('29990101000000_Later', '99')""",
            cancellation
        );
        await factory.MigrateAsync(cancellation);
        Assert.Contains("29990101000000_Later", await store.Database.GetAppliedMigrationsAsync(cancellation));
    }

    [Fact]
    public async Task Definitions_of_an_older_store_are_the_first_versions_that_are_known()
    {
        var factory = new StoreFactory(Path.Combine(folder, "old.db"));
        await using (var old = factory.CreateDbContext())
        {
            await old.GetService<IMigrator>().MigrateAsync("Beginning", cancellation);

            // As the store was then: the columns of today are not there yet.
            await old.Database.ExecuteSqlAsync(
                $"""
                INSERT INTO "Crossings" ("Name", "Definition", "Desired", "By", "Version", "Since")
                VALUES ('c', {"{}"}, 'Draft', 'ada', 3, '2026-11-24 04:05:06+00:00')
                """,
                cancellation
            );
        }

        await factory.MigrateAsync(cancellation);
        await using var store = factory.CreateDbContext();
        var version = await store.DefinitionVersions.SingleAsync(cancellation);
        Assert.Equal(("c", 3, "{}", "ada"), (version.Crossing, version.Version, version.Definition, version.By));
        Assert.Equal(new DateTime(2026, 11, 24, 4, 5, 6, DateTimeKind.Utc), new DateTime(version.AtTicks, DateTimeKind.Utc));
    }
}
