using Vestige.Core.Changes;
using Vestige.Core.Readiness;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.StandIn.Sources;

/// <summary>A stand-in as reached over its line, where the drills bite: what source and target have in common.</summary>
public abstract class StandInEndpoint(string name, Func<StandInDatabase> open, TimeProvider clock) : IProbe, ICatalogue, IRowLookup
{
    public string Name => name;

    /// <summary>Opened when it is first used; throws <see cref="Vestige.Engine.Faults.PortException"/> when its file cannot be.</summary>
    public StandInDatabase Database => open();

    public string Engine => "stand-in";

    public IEngineTypes Types => Catalogue.StandInTypes.Instance;

    public Task<string> GetIdentityAsync(CancellationToken cancellation) => Task.FromResult(Database.Identity.Server);

    public Task<bool> IsSameAsync(IProbe other, CancellationToken cancellation) =>
        Task.FromResult(other is StandInEndpoint line && line.Database.Identity.Server == Database.Identity.Server);

    protected TimeProvider Clock => clock;

    public Task<IReadOnlyList<TableDescription>> ReadTablesAsync(CancellationToken cancellation) =>
        ReadAsync(reader => StandInReads.Tables(reader, name), cancellation);

    public Task<long> CountAsync(TableName table, SharedRows? only, CancellationToken cancellation) =>
        ReadAsync(reader => StandInReads.Count(reader, table, only), cancellation);

    public Task<long?> CountValuesAsync(TableName table, string column, CancellationToken cancellation) =>
        ReadAsync(reader => StandInReads.CountValues(reader, table, column), cancellation);

    public Task<Row?> FindAsync(TableSchema table, IReadOnlyList<string> key, CancellationToken cancellation) =>
        ReadAsync(reader => StandInReads.Find(reader, table, key), cancellation);

    public Task<IReadOnlyList<Row>> SampleRowsAsync(TableSchema table, int rows, CancellationToken cancellation) =>
        ReadAsync(reader => StandInReads.Look(reader, table, rows), cancellation);

    public async Task<IReadOnlyList<ReadinessCheck>> TestAsync(CancellationToken cancellation)
    {
        var began = clock.GetTimestamp();
        var lines = new List<ReadinessCheck>();
        try
        {
            await Database.Drills.PassConnectionAsync(cancellation);
            lines.Add(new ReadinessCheck("connection", true, "the stand-in answers", "an answer", null, clock.GetElapsedTime(began)));
        }
        catch (Engine.Faults.PortException exception)
        {
            var took = clock.GetElapsedTime(began);
            lines.Add(new ReadinessCheck("connection", false, exception.Message, "an answer", exception.Remedy, took));
            return lines;
        }

        began = clock.GetTimestamp();
        var version = await ReadAsync(
            reader =>
            {
                using var ask = new Native.Statement(reader, "SELECT sqlite_version()", name);
                ask.Step();
                return ask.Text(0);
            },
            cancellation
        );
        lines.Add(
            new ReadinessCheck(
                "database",
                true,
                $"{name}, log {Database.Identity}",
                "a readable database",
                null,
                clock.GetElapsedTime(began)
            )
        );
        lines.Add(new ReadinessCheck("version", true, $"SQLite {version}", "any version", null, TimeSpan.Zero));
        return lines;
    }

    protected async Task<T> ReadAsync<T>(Func<SQLitePCL.sqlite3, T> read, CancellationToken cancellation)
    {
        await Database.Drills.PassConnectionAsync(cancellation);
        return Database.Read(read);
    }
}
