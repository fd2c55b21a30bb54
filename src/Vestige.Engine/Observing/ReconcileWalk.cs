using Microsoft.Extensions.Logging;
using Vestige.Core.Crossings;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Engine.Reconciling;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Observing;

/// <summary>
/// Compares the tables of crossings all the time, one after the other, at the pace that their rules allow and in the order of
/// <see cref="WalkOrder"/>. At the times of a schedule all of them are compared at once.
/// </summary>
internal sealed class ReconcileWalk(CrossingRegistry registry, ComparisonRunner runner, TimeProvider clock, ILogger logger)
{
    private static readonly TimeSpan LookEvery = TimeSpan.FromSeconds(1);
    private readonly Dictionary<string, DateTimeOffset> looked = [];
    private readonly Dictionary<(string Crossing, Core.Schemas.TableName Table), DateTimeOffset> tried = [];

    public async Task RunAsync(CancellationToken ending)
    {
        await Task.Yield();
        while (!ending.IsCancellationRequested)
        {
            try
            {
                await Task.Delay(LookEvery, clock, ending);
                foreach (
                    var entry in registry.All.Where(entry =>
                        entry.Stored.Definition.Reconcile is not null && entry.KeepsUp && runner.Find(entry.Name) is null
                    )
                )
                {
                    await StepAsync(entry, entry.Stored.Definition.Reconcile!, ending);
                }
            }
            catch (OperationCanceledException) when (ending.IsCancellationRequested)
            {
                return;
            }
            catch (Exception exception) when (exception is PortException or RequestRefusedException or IOException)
            {
                logger.LogWarning(exception, "A table could not be compared");
            }
        }
    }

    /// <summary>Whether a time of the schedule has come since it was last looked at; the first look sets the mark.</summary>
    private bool IsTime(CrossingEntry entry, ReconcileRule rule, DateTimeOffset now)
    {
        if (rule.Times is not { } times || !looked.TryGetValue(entry.Name, out var last))
        {
            looked[entry.Name] = now;
            return false;
        }

        if (CronTimes.Next(times, last, now) is not { } next || next > now)
        {
            return false;
        }

        looked[entry.Name] = now;
        return true;
    }

    private async Task StepAsync(CrossingEntry entry, ReconcileRule rule, CancellationToken ending)
    {
        var now = clock.GetUtcNow();
        if (IsTime(entry, rule, now))
        {
            await runner.RunAsync(entry, ComparisonScope.All, "the schedule", null, ending);
            return;
        }

        if (rule.Every is null)
        {
            return;
        }

        var tables = entry
            .Progress.Tables.Where(table => table is { Loaded: true, Held: false } && entry.Ways.Takes(table.Table))
            .Select(table => new WalkedTable(
                table.Table,
                entry.Verdicts.Of(table.Table),
                tried.TryGetValue((entry.Name, table.Table), out var at) ? at : null,
                entry.Meter.TallyOf(table.Table).LastChangeAt
            ));
        if (WalkOrder.Next(tables, rule, now) is { } next)
        {
            tried[(entry.Name, next)] = now;
            await runner.RunAsync(entry, new ComparisonScope([next]), "the rule", rule, ending);
        }
    }
}
