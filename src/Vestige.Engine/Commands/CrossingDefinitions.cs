using Vestige.Core.Crossings;
using Vestige.Engine.Concurrency;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Observing;
using Vestige.Engine.Ports;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Commands;

/// <summary>Saves the definitions of crossings that have not begun, one after the other.</summary>
internal sealed class CrossingDefinitions(
    IConnections connections,
    IControlStore store,
    CrossingRegistry registry,
    LoopCheck loops,
    EventLog events,
    TimeProvider clock
)
{
    private readonly AsyncLock alone = new();

    /// <summary>Keeps other definitions from coming, changing and going until it is disposed.</summary>
    public Task<IDisposable> EnterAsync(CancellationToken cancellation) => alone.EnterAsync(cancellation);

    /// <inheritdoc cref="CrossingEngine.DefineAsync"/>
    public async Task DefineAsync(
        CrossingDefinition definition,
        string by,
        Func<CancellationToken, Task>? verify,
        CancellationToken cancellation
    )
    {
        CrossingPacing.CheckTimes(definition);
        await loops.RefuseAsync(definition, cancellation);
        while (!await TryDefineAsync(definition, by, verify, cancellation))
        {
            // A crossing of that name came while this waited: its definition is changed as that of any other is.
        }
    }

    /// <summary>False, and nothing is kept, where there is a crossing of that name by now and there was none before.</summary>
    private async Task<bool> TryDefineAsync(
        CrossingDefinition definition,
        string by,
        Func<CancellationToken, Task>? verify,
        CancellationToken cancellation
    )
    {
        // A start that is being checked must not find another definition than the one it checked: first the crossing, then all of them.
        using var locked = await registry.TryEnterAsync(definition.Name, cancellation);
        using var held = await alone.EnterAsync(cancellation);
        var entry = registry.Find(definition.Name);
        if (entry != locked?.Entry)
        {
            return false;
        }

        await (verify?.Invoke(cancellation) ?? Task.CompletedTask);

        // A connection may have been removed since the definition was checked.
        _ = (connections.Source(definition.Source), connections.Target(definition.Target));
        RefuseOther(entry, definition);
        var stored = new StoredCrossing(definition, entry?.Stored.Desired ?? DesiredState.Draft, by, clock.GetUtcNow());
        await store.SaveAsync(stored, cancellation);
        if (entry is null)
        {
            registry.Add(stored);
        }
        else
        {
            entry.Stored = stored;
        }

        await events.OfCrossingAsync(definition.Name, EventKind.Note, entry is null ? "Defined." : "Definition changed.", by);
        return true;
    }

    /// <summary>A crossing that has begun, or whose log is kept, is not redefined in passing.</summary>
    private static void RefuseOther(CrossingEntry? entry, CrossingDefinition definition)
    {
        if (entry is not null && entry.Stored.Begun)
        {
            throw new RequestRefusedException($"{definition.Name} has been started; another definition may load tables again.")
            {
                Remedy = "See what the change needs, and confirm it.",
            };
        }

        if (entry is { Stored: { Desired: DesiredState.KeepLog } kept } && kept.Definition.Source != definition.Source)
        {
            throw new RequestRefusedException($"The log of {kept.Definition.Source} is kept for {definition.Name}.")
            {
                Remedy = "Remove the draft and create it again with another source.",
            };
        }
    }
}
