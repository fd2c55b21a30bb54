using System.Globalization;
using Vestige.Connectors.StandIn.Native;
using Vestige.Core.Positions;
using Vestige.Core.Readiness;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.StandIn.Sources;

/// <summary>A stand-in read as a source.</summary>
public sealed class StandInSource(string name, Func<StandInDatabase> open, TimeProvider clock)
    : StandInEndpoint(name, open, clock),
        ILogSource,
        IRowSource,
        ISourceViews,
        ILogGauge
{
    /// <summary>Of one that is open.</summary>
    public StandInSource(StandInDatabase database, TimeProvider clock)
        : this((database ?? throw new ArgumentNullException(nameof(database))).Name, () => database, clock) { }

    public async Task<SourceHead> SampleAsync(LogPosition captured, CancellationToken cancellation)
    {
        await Database.Drills.PassConnectionAsync(cancellation);
        var head = captured.At(Database.Head.Offset);
        DateTimeOffset? first = null;
        if (captured < head)
        {
            using var reader = Database.OpenReader();
            using var next = new Statement(
                reader.Handle!,
                "SELECT committed_at FROM vestige_log WHERE position > ? ORDER BY position, part LIMIT 1",
                Name
            );
            next.Bind(1, (long)captured.Offset);
            first = next.Step() ? new DateTimeOffset(next.Integer(0), TimeSpan.Zero) : null;
        }

        return new SourceHead(
            Database.Identity,
            head,
            captured.At(Database.Oldest.Offset),
            Database.LogBytes,
            Database.Options.LogLimit,
            first,
            Clock.GetUtcNow()
        );
    }

    /// <summary>A stand-in keeps its log for everybody, up to its limit.</summary>
    public async Task<LogStart> BeginLogAsync(CancellationToken cancellation)
    {
        await Database.Drills.PassConnectionAsync(cancellation);
        return new LogStart(Database.Head);
    }

    public Task EndLogAsync(CancellationToken cancellation) => Task.CompletedTask;

    public async Task<LogContinuity> ContinueAsync(ResumeToken token, CancellationToken cancellation)
    {
        await Database.Drills.PassConnectionAsync(cancellation);
        return LogContinuity.ByIdentity(token, Database.Identity);
    }

    public async Task<ILogReader> OpenLogAsync(LogRequest request, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(request);
        await Database.Drills.PassConnectionAsync(cancellation);
        var after = request.After;
        if (request.Log is { } wanted && wanted != Database.Identity)
        {
            throw new PortException($"{Name} is now {Database.Identity}.") { Transient = true };
        }

        if (after.Offset > Database.Head.Offset)
        {
            throw new PlaceLostException(
                $"The log of {Name} ends at {Format(Database.Head)}, before position {Format(after)}. The database was replaced by an "
                    + "older one."
            )
            {
                Remedy = "Load the crossings of this source again.",
            };
        }

        var (head, tables) = await Database.PresentAsync(request.Tables, cancellation);
        return new StandInLogReader(
            Database,
            after,
            request.Tables,
            [.. tables.Select(table => new ToldVersion(table.Name, after.At(head.Offset), VersionCertainty.Exact, table, ""))]
        );
    }

    public Task EnsureReadAsync(IReadOnlyList<TableName> tables, CancellationToken cancellation) => Task.CompletedTask;

    public async Task ConfirmAsync(LogPosition position, CancellationToken cancellation)
    {
        await Database.Drills.PassConnectionAsync(cancellation);
        Database.Confirm(position);
    }

    public async Task<ISourceSnapshot> OpenSnapshotAsync(int readers, int branch, CancellationToken cancellation)
    {
        await Database.Drills.PassConnectionAsync(cancellation);
        return await Database.WhileClosedAsync(() => StandInSnapshot.Open(Database, readers, branch, Clock), cancellation);
    }

    public async Task<IRowsView> OpenViewAsync(int branch, CancellationToken cancellation)
    {
        await Database.Drills.PassConnectionAsync(cancellation);
        return await Database.WhileClosedAsync(() => StandInView.OfSource(Database, branch), cancellation);
    }

    public async Task<IReadOnlyList<ReadinessCheck>> CheckSourceAsync(IReadOnlyList<TableName> tables, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(tables);
        var began = Clock.GetTimestamp();
        await Database.Drills.PassConnectionAsync(cancellation);
        var stopped = Database.Drills.ReaderStopped;
        return
        [
            new ReadinessCheck(
                "log",
                !stopped,
                stopped ? "the log cannot be read (drill)" : $"{LogFigures()}",
                "a readable log",
                stopped ? "Lift the drill on the stand-in's page." : null,
                Clock.GetElapsedTime(began)
            ),
        ];
    }

    /// <summary>Nothing that was not there before.</summary>
    public string Footprint => "";

    public LogGauge Read() =>
        new(Database.Identity, Database.Head, Database.Oldest, Database.LogBytes, Database.Options.LogLimit, Database.Options.LogSpan);

    public string Format(LogPosition position) => position.Offset.ToString(CultureInfo.InvariantCulture);

    public LogPosition? Parse(string text, int branch) =>
        ulong.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out var offset) ? new LogPosition(branch, offset) : null;

    public long Distance(LogPosition from, LogPosition to) => (long)to.Offset - (long)from.Offset;

    private string LogFigures() =>
        $"{Core.Text.Figures.Bytes(Database.LogBytes)} kept of at most {Core.Text.Figures.Bytes(Database.Options.LogLimit)}";
}
