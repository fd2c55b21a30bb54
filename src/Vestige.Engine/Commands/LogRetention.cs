using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Capturing;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;
using Vestige.Engine.Treating;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Commands;

/// <summary>Lets the log be kept for a draft whose tables are loaded by other means.</summary>
internal sealed class LogRetention(IConnections connections, Captures captures)
{
    /// <summary>The tables whose changes can be read. Throws <see cref="NotReadyException"/> when one cannot, or there is none.</summary>
    public async Task<IReadOnlyList<TableName>> TablesAsync(CrossingDefinition definition, CancellationToken cancellation)
    {
        var source = connections.Source(definition.Source);
        List<TableName> tables =
        [
            .. TakenTables
                .Of(definition.Tables, await source.Catalogue.ReadTablesAsync(cancellation))
                .Where(table => table.CrossesAs(definition.AppliedAs(table.Schema.Name)))
                .Select(table => table.Schema.Name),
        ];
        var checks =
            tables.Count == 0
                ? throw new RequestRefusedException($"The rules of {definition.Name} select no table that can be replicated.")
                {
                    Remedy = "Change the rules.",
                }
                : await source.Log.CheckSourceAsync(tables, cancellation);
        return checks.All(check => definition.Judge(check).Ok) ? tables : throw new NotReadyException(checks);
    }

    /// <summary>
    /// The position after which all changes of the tables are held that the rules take and that are read; null before that is known.
    /// </summary>
    public static LogPosition? AfterOf(CrossingDefinition definition, Spool spool)
    {
        var held = spool.Tables.Where(definition.Tables.Takes).Select(table => spool.Retained(table)?.WholeAfter).ToList();
        return held.Count == 0 || held.Contains(null) ? null : held.Max();
    }

    /// <summary>Returns the position after which all changes of the tables are held.</summary>
    public async Task<LogPosition> KeepAsync(CrossingEntry entry, IReadOnlyList<TableName> tables, CancellationToken cancellation)
    {
        var definition = entry.Stored.Definition;
        var capture = captures.Find(definition.Source)
            ?? throw new PortException($"The log cannot be kept yet: {entry.Trouble?.What}")
            {
                Remedy = entry.Trouble?.Remedy,
                Transient = true,
            };
        await capture.CarryAsync(tables, cancellation);
        await using (var snapshot = await BranchReads.SnapshotAsync(connections.Source(definition.Source), capture.Spool, 1, cancellation))
        {
            capture.RetainsWhole(tables, snapshot.Position);
        }

        await capture.RetainsWholeAsync(tables, cancellation);
        var after = AfterOf(definition, capture.Spool)!.Value;
        capture.Spool.Retain(definition.Name, after);
        return after;
    }
}
