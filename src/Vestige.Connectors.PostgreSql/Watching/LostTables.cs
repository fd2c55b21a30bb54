using Vestige.Connectors.PostgreSql.Log;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;

namespace Vestige.Connectors.PostgreSql.Watching;

/// <summary>
/// Tables that dropped out of the publication. Each is put back once its loss is durable here: what was changed meanwhile is not in the
/// log. Safe for several threads.
/// </summary>
internal sealed class LostTables(PostgreSqlDatabase database, LogNames names)
{
    private readonly Lock gate = new();
    private readonly Dictionary<TableName, LogPosition?> lost = [];
    private Task? carrying;

    /// <summary>Whether the loss of a table is not written down yet.</summary>
    public bool Contains(TableName table)
    {
        lock (gate)
        {
            return lost.ContainsKey(table);
        }
    }

    /// <summary>A table is lost. One of which nothing is to be told has nothing to lose.</summary>
    public void Add(TableName table, bool isToBeTold)
    {
        lock (gate)
        {
            lost.TryAdd(table, isToBeTold ? null : LogPosition.Zero);
        }
    }

    /// <summary>The log reader has reported the loss of these tables at a position.</summary>
    public void ToldAt(IReadOnlySet<TableName> tables, LogPosition position)
    {
        lock (gate)
        {
            foreach (var table in tables.Where(table => lost.TryGetValue(table, out var at) && at is null).ToList())
            {
                lost[table] = position;
            }
        }
    }

    /// <summary>Publishes again those whose loss is durable by now, and that are there.</summary>
    public void Publish(LogPosition durable, Func<TableName, bool> isThere)
    {
        if (carrying is { IsCompleted: false })
        {
            return;
        }

        HashSet<TableName> ready;
        lock (gate)
        {
            ready = [.. lost.Where(entry => entry.Value <= durable && isThere(entry.Key)).Select(entry => entry.Key)];
            foreach (var table in ready)
            {
                lost.Remove(table);
            }
        }

        carrying = ready.Count > 0 ? CarryAsync(ready) : null;
    }

    private async Task CarryAsync(IReadOnlySet<TableName> again)
    {
        try
        {
            await database.UseAsync(
                "Publishing tables again",
                async (connection, stop) =>
                {
                    await Publication.CarryAsync(connection, names, again, stop);
                    return true;
                },
                CancellationToken.None
            );
        }
        catch (PortException)
        {
            // A load of one of them says why it is not published; the next start of the reader tries again.
        }
    }
}
