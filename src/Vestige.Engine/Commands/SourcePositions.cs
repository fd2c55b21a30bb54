using Vestige.Core.Joining;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Commands;

/// <summary>Positions of sources as people write them, and the joins of their logs. Safe for several threads.</summary>
public sealed class SourcePositions
{
    private readonly IConnections connections;
    private readonly Captures captures;

    internal SourcePositions(IConnections connections, Captures captures) => (this.connections, this.captures) = (connections, captures);

    /// <summary>
    /// Reads a position in the source's own notation; null when the text is none. It is taken to be on the latest branch that it can
    /// be on.
    /// </summary>
    public LogPosition? Parse(string connection, string text)
    {
        var branches = captures.Find(connection)?.Spool.Branches ?? [];
        if (connections.Source(connection).Log.Parse(text, Math.Max(0, branches.Count - 1)) is not { } position)
        {
            return null;
        }

        for (var branch = branches.Count - 1; branch > 0; branch--)
        {
            if (branches[branch].Contains(position.Offset))
            {
                return position.On(branch);
            }
        }

        return position.On(0);
    }

    /// <summary>
    /// Since when all changes of some tables are held: after a position, and the time of the first transaction after it, null where there
    /// is none. Null where changes of one of them are not held.
    /// </summary>
    public async Task<(LogPosition After, DateTimeOffset? Time)?> HeldSinceAsync(
        string connection,
        IReadOnlyCollection<TableName> tables,
        CancellationToken cancellation
    )
    {
        ArgumentNullException.ThrowIfNull(tables);
        if (
            captures.Find(connection)?.Spool is not { Readable: true } spool
            || tables.Any(table => spool.Retained(table)?.WholeAfter is null)
        )
        {
            return null;
        }

        var since = tables.Select(table => spool.Retained(table)!.WholeAfter!.Value).Append(spool.Begin).Max();
        return (since, (await spool.LocateAsync(since, cancellation))?.NextCommittedAt);
    }

    /// <summary>
    /// Takes a join of a source's log with the one that follows it; durable when it returns. The source's connection is led to the new
    /// system by whoever makes the join. Throws <see cref="RequestRefusedException"/> where it may not be taken.
    /// </summary>
    public Task JoinAsync(string connection, JoinPoint join, CancellationToken cancellation) =>
        captures.Find(connection) is { } capture
            ? capture.JoinAsync(join, cancellation)
            : throw new RequestRefusedException($"The log of {connection} is not read.") { Remedy = "Start a crossing of it first." };
}
