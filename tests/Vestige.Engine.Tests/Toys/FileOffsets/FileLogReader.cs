using System.Buffers;
using Vestige.Core.Changes;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Tests.Toys.FileOffsets;

/// <summary>Reads the log of one server, as long as it is the one that is written to.</summary>
public sealed class FileLogReader(FileLogDatabase database, FileLogServer server, LogRequest request, TimeProvider clock) : ILogReader
{
    private const int MostTransactions = 100;
    private readonly HashSet<int> told = [.. request.Known.Keys];
    private ulong at = request.After.Offset;

    public async ValueTask<LogRead> ReadAsync(TimeSpan wait, CancellationToken cancellation)
    {
        var grown = database.Grown;
        if (Next() is { } read)
        {
            return read;
        }

        await Task.WhenAny(grown, Task.Delay(wait, clock, cancellation));
        cancellation.ThrowIfCancellationRequested();
        return Next() ?? new LogRead([], new Dictionary<int, TableSchema>(), request.After.At(at), AtHead: true);
    }

    public ValueTask DisposeAsync() => ValueTask.CompletedTask;

    /// <summary>What there is; null where there is nothing.</summary>
    private LogRead? Next()
    {
        lock (database.Gate)
        {
            if (server != database.Server)
            {
                throw new PortException("The server is gone.") { Transient = true };
            }

            if (at < server.Oldest)
            {
                throw new PlaceLostException($"The log begins at {FileLogServer.Format(server.Oldest)}.");
            }

            var relations = new Dictionary<int, TableSchema>();
            var seen = server.Log.Where(entry => entry.Offset > at).Take(MostTransactions).ToList();
            if (seen.Count == 0)
            {
                return null;
            }

            at = seen[^1].Offset;
            var fragments = seen.Select(entry => FragmentOf(entry, relations)).Where(fragment => fragment.Count > 0).ToList();
            return new LogRead(fragments, relations, request.After.At(at), at == server.Head)
            {
                PassedToken = FileLogServer.TokenAfter(seen[^1]),
            };
        }
    }

    private LogFragment FragmentOf(LogEntry entry, Dictionary<int, TableSchema> relations)
    {
        var bytes = new ArrayBufferWriter<byte>();
        var count = 0;
        foreach (var change in entry.Changes.Where(change => request.Tables.Contains(database.Tables[change.Relation].Name)))
        {
            ChangeWriter.Write(bytes, change);
            count++;
            if (told.Add(change.Relation))
            {
                relations.Add(change.Relation, database.Tables[change.Relation]);
            }
        }

        return new LogFragment(
            request.After.At(entry.Offset),
            entry.CommittedAt,
            First: true,
            Last: true,
            count,
            bytes.WrittenMemory,
            Token: FileLogServer.TokenAfter(entry)
        );
    }
}
