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

    public DbSet<AppliedRecord> Applied => Set<AppliedRecord>();

    public DbSet<JudgedRecord> JudgedForecasts => Set<JudgedRecord>();

    public DbSet<WaitingRecord> Waiting => Set<WaitingRecord>();

    public DbSet<DecidedRecord> Decided => Set<DecidedRecord>();

    public DbSet<AlertRecord> Alerts => Set<AlertRecord>();

    public DbSet<AlertMessageRecord> AlertMessages => Set<AlertMessageRecord>();

    public DbSet<RunRecord> Runs => Set<RunRecord>();

    public DbSet<ReconciliationRecord> Reconciliations => Set<ReconciliationRecord>();

    public DbSet<VerdictRecord> Verdicts => Set<VerdictRecord>();

    public DbSet<RepairRecord> Repairs => Set<RepairRecord>();

    public DbSet<ProgressRecord> Progress => Set<ProgressRecord>();

    public DbSet<SchemaVersionRecord> SchemaVersions => Set<SchemaVersionRecord>();

    public DbSet<UndoRecord> Undo => Set<UndoRecord>();

    public DbSet<RewindRecord> Rewinds => Set<RewindRecord>();

    public DbSet<SettingRecord> Settings => Set<SettingRecord>();

    protected override void OnModelCreating(ModelBuilder modelBuilder)
    {
        ArgumentNullException.ThrowIfNull(modelBuilder);
        modelBuilder.Entity<CrossingRecord>().HasKey(crossing => crossing.Name);
        modelBuilder.Entity<DefinitionVersionRecord>().HasKey(version => new { version.Crossing, version.Version });
        modelBuilder.Entity<EpochRecord>().HasKey(epoch => epoch.Crossing);
        modelBuilder.Entity<ProgressRecord>().HasKey(progress => progress.Crossing);
        modelBuilder.Entity<ConnectionRecord>().HasKey(connection => connection.Name);
        modelBuilder.Entity<EventRecord>().HasKey(happened => happened.Id);
        modelBuilder.Entity<EventRecord>().HasIndex(happened => new { happened.Crossing, happened.Id });
        modelBuilder.Entity<EventRecord>().HasIndex(happened => happened.AtTicks);
        modelBuilder.Entity<AlertRecord>().HasKey(alert => alert.Number);
        modelBuilder.Entity<AlertRecord>().Property(alert => alert.Number).ValueGeneratedNever();
        modelBuilder.Entity<AlertRecord>().HasIndex(alert => alert.OverTicks);
        modelBuilder.Entity<AlertMessageRecord>().HasKey(message => message.Id);
        modelBuilder.Entity<AlertMessageRecord>().HasIndex(message => message.DueTicks);
        modelBuilder.Entity<RunRecord>().HasKey(run => new { run.Crossing, run.BeganTicks });
        modelBuilder.Entity<RunRecord>().HasIndex(run => run.BeganTicks);
        modelBuilder.Entity<SchemaVersionRecord>().HasKey(version => version.Id);
        modelBuilder.Entity<SchemaVersionRecord>().Property(version => version.Id).ValueGeneratedOnAdd();
        modelBuilder
            .Entity<SchemaVersionRecord>()
            .HasIndex(version => new
            {
                version.Source,
                version.Table,
                version.Number,
            })
            .IsUnique();
        modelBuilder.Entity<UndoRecord>().HasKey(entry => entry.Id);
        modelBuilder.Entity<RewindRecord>().HasKey(rewind => rewind.Crossing);
        modelBuilder.Entity<SettingRecord>().HasKey(setting => setting.Name);
        modelBuilder.Entity<ReconciliationRecord>().HasKey(comparison => new { comparison.Crossing, comparison.Id });
        modelBuilder.Entity<ReconciliationRecord>().HasIndex(comparison => new { comparison.Crossing, comparison.BeganTicks });
        modelBuilder.Entity<VerdictRecord>().HasKey(verdict => new { verdict.Crossing, verdict.Table });
        modelBuilder.Entity<RepairRecord>().HasKey(repair => new { repair.Crossing, repair.Id });
        modelBuilder.Entity<WaitingRecord>().HasKey(change => new { change.Crossing, change.Id });
        modelBuilder.Entity<DecidedRecord>().HasKey(change => change.Number);
        modelBuilder.Entity<DecidedRecord>().HasIndex(change => new { change.Crossing, change.Number });
        modelBuilder.Entity<DecidedRecord>().HasIndex(change => change.AtTicks);
        modelBuilder
            .Entity<MeasureRecord>()
            .HasKey(block => new
            {
                block.Crossing,
                block.Step,
                block.Start,
            });
        modelBuilder.Entity<MeasureRecord>().HasIndex(block => new { block.Step, block.Start });
        modelBuilder.Entity<AppliedRecord>().HasKey(block => new { block.Crossing, block.Start });
        modelBuilder.Entity<AppliedRecord>().HasIndex(block => block.Start);
        modelBuilder.Entity<JudgedRecord>().HasKey(judged => new { judged.Crossing, judged.Kind });
    }
}
