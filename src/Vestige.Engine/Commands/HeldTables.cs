using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Engine.Capturing;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Commands;

/// <summary>
/// Lets tables continue that wait for a person to agree to what was done to them at the source. Their rows stand where they were held;
/// they catch up from there beside the stream, through what is agreed to.
/// </summary>
internal sealed class HeldTables(EngineServices services, Captures captures, CrossingRegistry registry, CrossingOpener opener)
{
    /// <summary>
    /// Agrees. Throws <see cref="RequestRefusedException"/> where a table is not held, or its changes are not kept any more; nothing is
    /// done then. A crossing that is at work goes on; one that is not stays as it is.
    /// </summary>
    public async Task AgreeAsync(string crossing, IReadOnlyList<TableName> tables, string by, CancellationToken cancellation)
    {
        using var locked = await registry.EnterAsync(crossing, cancellation);
        var entry = locked.Entry;
        var target = services.Connections.Target(entry.Stored.Definition.Target);
        var capture = captures.Find(entry.Stored.Definition.Source);
        _ = Agreed(await target.Progress.ReadProgressAsync(crossing, cancellation), tables, capture);
        var atWork = entry.Worker is { Running.IsCompleted: false };
        await entry.HaltAsync(new StopRequest(StopMode.Now));
        try
        {
            await using var session = await target.Progress.OpenProgressAsync(
                crossing,
                await services.Stores.Control.NextTermAsync(crossing, 0, cancellation),
                cancellation
            );
            await session.SaveAsync(new ProgressUpdate(null, Agreed(session.Progress, tables, capture)), cancellation);
        }
        finally
        {
            if (atWork)
            {
                await opener.OpenAsync(entry, CancellationToken.None);
            }
        }

        await services.Events.OfCrossingAsync(
            crossing,
            EventKind.Note,
            $"Agreed to what was changed at the source: {string.Join(", ", tables)}.",
            by
        );
    }

    /// <summary>Whether a held table can continue: all of its changes since are kept, in the log that is read now.</summary>
    public static bool MayContinue(TableProgress? table, TargetProgress progress, Spool? spool) =>
        table is { Held: true, Reached: { } reached }
        && reached.Branch == progress.Position?.Branch
        && spool is { Readable: true }
        && spool.Contains(reached);

    private static List<TableProgress> Agreed(TargetProgress found, IReadOnlyList<TableName> tables, Capture? capture)
    {
        if (tables.Count == 0)
        {
            throw new RequestRefusedException("No table is named.") { Remedy = "Name held tables of this crossing." };
        }

        var progress = capture is null ? found : found.Match(capture.Spool.Branches);
        return
        [
            .. tables.Select(name =>
                progress.Tables.FirstOrDefault(table => table.Table == name) is not { } table
                    ? throw new RequestRefusedException($"The crossing has no table {name}.") { Remedy = "Name tables of this crossing." }
                : !table.Held ? throw new RequestRefusedException($"{name} is not held.") { Remedy = "Name held tables of this crossing." }
                : !MayContinue(table, progress, capture?.Spool)
                    ? throw new RequestRefusedException($"{name} cannot continue: the changes since it was held are not kept.")
                    {
                        Remedy = "Load it again.",
                    }
                : table.Agreed()
            ),
        ];
    }
}
