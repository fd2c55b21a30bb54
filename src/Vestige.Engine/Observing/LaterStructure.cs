using Microsoft.Extensions.Logging;
using Vestige.Core.Crossings;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Engine.Structures;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Observing;

/// <summary>
/// Every few minutes looks for indexes and constraints that were added at sources, and builds them on the targets of crossings whose rules
/// say so. What cannot be built is tried once in the life of the process; a person can ask for it again.
/// </summary>
internal sealed class LaterStructure(EngineServices services, CrossingRegistry registry, StructureService structure)
{
    private const string Rules = "the rules";
    private static readonly TimeSpan Every = TimeSpan.FromMinutes(5);
    private readonly HashSet<(string Crossing, string Table, string Name)> tried = [];

    public async Task RunAsync(CancellationToken ending)
    {
        await Task.Yield();
        while (!ending.IsCancellationRequested)
        {
            try
            {
                await Task.Delay(services.Options.LookEvery ?? Every, services.Clock, ending);
                foreach (var entry in registry.All.Where(BuildsSome))
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

    private static bool BuildsSome(CrossingEntry entry) =>
        entry.Worker is { Running.IsCompleted: false, View.Following: true }
        && entry.Progress.Tables.Any(table => entry.Stored.Definition.BuildsConstraints(table.Table));

    private async Task LookAsync(CrossingEntry entry, CancellationToken ending)
    {
        try
        {
            if (!structure.IsPossible(entry.Name) || structure.Running(entry.Name).Count > 0)
            {
                return;
            }

            var missing = await structure.MissingAsync(entry.Name, entry.Stored.Definition.BuildsConstraints, ending);
            List<(string Table, string Name)> wanted =
            [
                .. missing.Select(part => ($"{part.Table}", part.Name)).Where(part => tried.Add((entry.Name, part.Item1, part.Name))),
            ];
            await (wanted.Count > 0 ? structure.BuildAsync(entry.Name, wanted, Rules, ending) : Task.CompletedTask);
        }
        catch (Exception exception) when (exception is PortException or RequestRefusedException)
        {
            services.Logger.LogWarning(exception, "Indexes and constraints for {Crossing} could not be looked for", entry.Name);
        }
    }
}
