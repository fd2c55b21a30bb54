using Vestige.Engine.Commands;
using Vestige.Engine.Structures;
using Vestige.Engine.Undoing;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Observing;

/// <summary>
/// What an engine does continuously beside its workers: it measures, looks for new tables, for new indexes and constraints, and for
/// connections that are no longer ready, begins runs by their schedules, compares tables, and drops those that can no longer be restored.
/// </summary>
internal sealed class EngineWatch : IDisposable
{
    private readonly CancellationTokenSource ending = new();
    private readonly List<Func<CancellationToken, Task>> loops;
    private Task running = Task.CompletedTask;

    public EngineWatch(
        EngineServices services,
        CrossingRegistry registry,
        CrossingOpener opener,
        CrossingSampler sampler,
        CrossingEditor editor,
        ComparisonRunner comparisons,
        StructureService structure
    )
    {
        loops =
        [
            sampler.RunAsync,
            new LaterTables(services, registry, editor).RunAsync,
            new LaterStructure(services, registry, structure).RunAsync,
            new Scheduler(registry, opener, services.Clock, services.Logger).RunAsync,
            new ReconcileWalk(registry, comparisons, services.Clock, services.Logger).RunAsync,
        ];
        if (services.Stores.Alerts is not null)
        {
            loops.Add(new ReadinessWatch(services, registry).RunAsync);
        }

        if (services.Stores.Undo is { } undo)
        {
            loops.Add(new UndoSweep(services, undo).RunAsync);
        }
    }

    public void Start() => running = Task.WhenAll(loops.Select(loop => loop(ending.Token)).ToList());

    /// <summary>Ends all loops; returns when the last one has ended.</summary>
    public Task EndAsync()
    {
        ending.Cancel();
        return running;
    }

    public void Dispose() => ending.Dispose();
}
