using Microsoft.Extensions.Logging;
using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Engine.Commands;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Treating;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Observing;

/// <summary>
/// Every so often, once a minute if nothing else is said, looks for tables that were made at a source since a crossing was started and that
/// its rules take by themselves.
/// </summary>
internal sealed class LaterTables(EngineServices services, CrossingRegistry registry, CrossingEditor editor)
{
    private readonly IConnections connections = services.Connections;
    private readonly EventLog events = services.Events;
    private readonly TimeProvider clock = services.Clock;
    private readonly ILogger logger = services.Logger;
    private static readonly TimeSpan Minute = TimeSpan.FromMinutes(1);
    private readonly Dictionary<string, string> told = [];

    public async Task RunAsync(CancellationToken ending)
    {
        await Task.Yield();
        while (!ending.IsCancellationRequested)
        {
            try
            {
                await Task.Delay(services.Options.LookEvery ?? Minute, clock, ending);
                foreach (
                    var entry in registry.All.Where(entry =>
                        entry.Stored is { Desired: DesiredState.Run, Definition: { Tables.Future: true, EndsByItself: false } }
                        && IsReady(entry)
                    )
                )
                {
                    await LookAsync(entry, ending);
                }
            }
            catch (OperationCanceledException) when (ending.IsCancellationRequested)
            {
                return;
            }
        }
    }

    /// <summary>One that follows, or rests between two runs of its schedule; the next of them then loads what came.</summary>
    private static bool IsReady(CrossingEntry entry) =>
        entry.Worker switch
        {
            { Running.IsCompleted: false } worker => worker.View.Following,
            { View.Fault: not null } => false,
            _ => entry.NextRun is not null,
        };

    private async Task LookAsync(CrossingEntry entry, CancellationToken ending)
    {
        try
        {
            var definition = entry.Stored.Definition;
            var there = await connections.Source(definition.Source).Catalogue.ReadTablesAsync(ending);
            var known = entry.Progress.Tables.Select(table => table.Table).ToHashSet();
            var made = TakenTables
                .Of(definition.Tables, there)
                .Where(table => table.CrossesAs(definition.AppliedAs(table.Schema.Name)))
                .Select(table => table.Schema.Name)
                .Where(name => !known.Contains(name))
                .ToList();
            if (made.Count > 0 && known.Count > 0 && IsReady(entry))
            {
                await TakeAsync(entry, definition, made, ending);
            }
        }
        catch (Exception exception) when (exception is PortException or RequestRefusedException or IOException)
        {
            logger.LogWarning(exception, "Later tables of {Crossing} could not be looked for", entry.Name);
        }
    }

    private async Task TakeAsync(CrossingEntry entry, CrossingDefinition definition, List<TableName> made, CancellationToken ending)
    {
        var names =
            $"{Figures.Of(made.Count, "table")} made later: {string.Join(", ", made.Order().Take(8))}{(made.Count > 8 ? ", ..." : "")}";
        try
        {
            await editor.ChangeAsync(definition, "the rules", typed: null, ending);
            told.Remove(entry.Name);
            await events.OfCrossingAsync(entry.Name, EventKind.Note, $"Takes {names}.");
        }
        catch (Exception exception) when (exception is NotReadyException or LossRefusedException)
        {
            // Told once for each reason, not every minute.
            if (told.GetValueOrDefault(entry.Name) != exception.Message)
            {
                told[entry.Name] = exception.Message;
                await events.OfCrossingAsync(entry.Name, EventKind.Warning, $"Cannot take {names}. {exception.Message}");
            }
        }
    }
}
