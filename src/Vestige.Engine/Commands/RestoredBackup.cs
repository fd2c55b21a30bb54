using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Commands;

/// <summary>
/// Finds out whether a spool that ends before what the source still has is only older than its targets, as after a backup of the data
/// folder was restored. Then nothing is missing.
/// </summary>
internal sealed class RestoredBackup(IConnections connections, CrossingRegistry registry, IQuarantineStore quarantine)
{
    /// <summary>See <see cref="Capturing.MissingBefore"/>.</summary>
    public async Task<string?> MissingAsync(string connection, LogIdentity identity, LogPosition position, CancellationToken cancellation)
    {
        var forms = (await connections.Source(connection).Catalogue.ReadTablesAsync(cancellation)).ToDictionary(
            table => table.Schema.Name,
            table => table.Schema
        );
        foreach (var entry in registry.All.Where(entry => entry.Stored.Definition.Source == connection && entry.Stored.NeedsLog))
        {
            if (!entry.Stored.Begun)
            {
                return $"the log that was kept for {entry.Name} is lost";
            }

            var progress = await connections.Target(entry.Stored.Definition.Target).Progress.ReadProgressAsync(entry.Name, cancellation);
            if ((Lacks(entry.Name, progress, identity, position) ?? Changed(progress, forms)) is { } why)
            {
                return why;
            }

            if ((await quarantine.ReadAsync(entry.Name, cancellation)).Count > 0)
            {
                return $"changes wait in the quarantine of {entry.Name}, and what was decided of them since the backup is not known";
            }
        }

        return null;
    }

    private static string? Lacks(string crossing, TargetProgress progress, LogIdentity identity, LogPosition position)
    {
        var loaded = progress.Tables.Where(table => table is { Loaded: true, Held: false }).ToList();
        if (progress.Position is null && loaded.Count == 0)
        {
            return null;
        }

        // The spool is of the first branch again; so are the positions, if they are of that log.
        return progress.Identity != identity || loaded.Exists(table => table.Log is { } log && log != identity)
                ? $"the target of {crossing} is at a position of another log"
            : (progress.Position ?? loaded.Min(table => table.Position)).Offset < position.Offset
                ? $"the target of {crossing} is before that"
            : null;
    }

    /// <summary>
    /// What was done to a table since it was loaded is seen from here on only; so a table that is not as it was then has to be loaded.
    /// </summary>
    private static string? Changed(TargetProgress progress, Dictionary<TableName, TableSchema> forms) =>
        progress
            .Tables.Where(table =>
                table is { Loaded: true, Held: false, Fingerprint: not null }
                && !(forms.TryGetValue(table.Table, out var form) && SchemaFingerprint.Of(form) == table.Fingerprint)
            )
            .Select(table => $"{table.Table} was changed at the source since it was loaded")
            .FirstOrDefault();
}
