using Vestige.Core.Positions;
using Vestige.Core.Readiness;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Tests.Doubles;

namespace Vestige.Engine.Tests.Toys.FileOffsets;

/// <summary>
/// A source whose positions are offsets in files of one server. Where another server takes over, only the set of transactions in a token
/// says where its own log continues.
/// </summary>
public sealed class FileLogConnector(FileLogDatabase database, TimeProvider clock) : IConnector, IProbe, ICatalogue, ILogSource, IRowSource
{
    private FileLogServer? reading;

    public string Engine => "files";

    public IEngineTypes Types => PlainTypes.Instance;

    public string Footprint => "";

    public T? Find<T>()
        where T : class => this as T;

    public Task<string> GetIdentityAsync(CancellationToken cancellation) => Task.FromResult("files");

    public Task<bool> IsSameAsync(IProbe other, CancellationToken cancellation) => Task.FromResult(ReferenceEquals(this, other));

    public Task<IReadOnlyList<ReadinessCheck>> TestAsync(CancellationToken cancellation) =>
        Task.FromResult<IReadOnlyList<ReadinessCheck>>([new("files", true, "they are in memory", "files", null, TimeSpan.Zero)]);

    public Task<IReadOnlyList<TableDescription>> ReadTablesAsync(CancellationToken cancellation) =>
        Task.FromResult<IReadOnlyList<TableDescription>>([
            .. database.Tables.Select(table => new TableDescription(table, database.RowsOf(table.Name).Count, null, null)),
        ]);

    public Task<SourceHead> SampleAsync(LogPosition captured, CancellationToken cancellation)
    {
        lock (database.Gate)
        {
            var server = database.Server;
            return Task.FromResult(
                new SourceHead(
                    server.Identity,
                    captured.At(server.Head),
                    captured.At(server.Oldest),
                    server.Distance(server.Oldest, server.Head),
                    null,
                    server.Log.FirstOrDefault(entry => entry.Offset > captured.Offset)?.CommittedAt,
                    clock.GetUtcNow()
                )
            );
        }
    }

    public Task<LogStart> BeginLogAsync(CancellationToken cancellation)
    {
        lock (database.Gate)
        {
            return Task.FromResult(new LogStart(new LogPosition(database.Server.Head), database.Server.Token));
        }
    }

    public Task EndLogAsync(CancellationToken cancellation) => Task.CompletedTask;

    /// <summary>A token of another server names the transactions that were read; this one has them at a place of its own.</summary>
    public Task<LogContinuity> ContinueAsync(ResumeToken token, CancellationToken cancellation)
    {
        lock (database.Gate)
        {
            var server = database.Server;
            return Task.FromResult<LogContinuity>(
                token.Identity == server.Identity ? new LogContinuity.Same()
                : FileLogServer.HadOf(token.Text) is { } had && server.After(had) is { } begin
                    ? new LogContinuity.NewBranch(server.Identity, begin, FileLogServer.TokenOf(begin, had))
                : new LogContinuity.Lost(server.Identity, "It does not have these transactions any more.")
            );
        }
    }

    public Task<ILogReader> OpenLogAsync(LogRequest request, CancellationToken cancellation)
    {
        lock (database.Gate)
        {
            var server = database.Server;
            if (request.Log is { } wanted && wanted != server.Identity)
            {
                throw new PortException($"The log is now that of {server.Identity}.") { Transient = true };
            }

            reading = server;
            return Task.FromResult<ILogReader>(new FileLogReader(database, server, request, clock));
        }
    }

    public Task EnsureReadAsync(IReadOnlyList<TableName> tables, CancellationToken cancellation) => Task.CompletedTask;

    public Task ConfirmAsync(LogPosition position, CancellationToken cancellation)
    {
        lock (database.Gate)
        {
            if (reading != database.Server)
            {
                throw new PortException("The server is gone.") { Transient = true };
            }

            reading.Drop(position.Offset);
        }

        return Task.CompletedTask;
    }

    public Task<IReadOnlyList<ReadinessCheck>> CheckSourceAsync(IReadOnlyList<TableName> tables, CancellationToken cancellation) =>
        Task.FromResult<IReadOnlyList<ReadinessCheck>>([]);

    public string Format(LogPosition position) => FileLogServer.Format(position.Offset);

    public LogPosition? Parse(string text, int branch) => FileLogServer.Parse(text) is { } offset ? new LogPosition(branch, offset) : null;

    public long Distance(LogPosition from, LogPosition to) => database.Server.Distance(from.Offset, to.Offset);

    public Task<ISourceSnapshot> OpenSnapshotAsync(int readers, int branch, CancellationToken cancellation)
    {
        lock (database.Gate)
        {
            return Task.FromResult<ISourceSnapshot>(
                new FileLogSnapshot(database, new LogPosition(branch, database.Server.Head), clock.GetUtcNow())
            );
        }
    }

    public ValueTask DisposeAsync() => ValueTask.CompletedTask;
}
