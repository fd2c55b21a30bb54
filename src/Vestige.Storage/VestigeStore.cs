using Microsoft.EntityFrameworkCore;
using Vestige.Storage.Entities;

namespace Vestige.Storage;

/// <summary>Definitions and events, in one SQLite file. The data path never comes here.</summary>
public sealed class VestigeStore(DbContextOptions<VestigeStore> options) : DbContext(options)
{
    public DbSet<CrossingRecord> Crossings => Set<CrossingRecord>();

    public DbSet<DefinitionVersionRecord> DefinitionVersions => Set<DefinitionVersionRecord>();

    public DbSet<EpochRecord> Epochs => Set<EpochRecord>();

    public DbSet<ConnectionRecord> Connections => Set<ConnectionRecord>();

    public DbSet<EventRecord> Events => Set<EventRecord>();

    public DbSet<MeasureRecord> Measures => Set<MeasureRecord>();

    protected override void OnModelCreating(ModelBuilder modelBuilder)
    {
        ArgumentNullException.ThrowIfNull(modelBuilder);
        modelBuilder.Entity<CrossingRecord>().HasKey(crossing => crossing.Name);
        modelBuilder.Entity<DefinitionVersionRecord>().HasKey(version => new { version.Crossing, version.Version });
        modelBuilder.Entity<EpochRecord>().HasKey(epoch => epoch.Crossing);
        modelBuilder.Entity<ConnectionRecord>().HasKey(connection => connection.Name);
        modelBuilder.Entity<EventRecord>().HasKey(happened => happened.Id);
        modelBuilder.Entity<EventRecord>().HasIndex(happened => new { happened.Crossing, happened.Id });
        modelBuilder.Entity<EventRecord>().HasIndex(happened => happened.AtTicks);
        modelBuilder.Entity<MeasureRecord>().HasKey(block => new { block.Crossing, block.Step, block.Start });
        modelBuilder.Entity<MeasureRecord>().HasIndex(block => new { block.Step, block.Start });
    }
}
