using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Core.Text;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Quarantining;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Commands;

/// <summary>
/// Where people see and decide what waits in quarantine. What is decided is durable at once; the crossing sees to it as soon as it
/// runs. Throws <see cref="RequestRefusedException"/> for what does not wait any more. Safe for several threads.
/// </summary>
public sealed class QuarantineService
{
    private readonly CrossingRegistry registry;
    private readonly IControlStore store;
    private readonly EventLog events;
    private readonly TimeProvider clock;

    internal QuarantineService(CrossingRegistry registry, IControlStore store, EventLog events, TimeProvider clock)
    {
        this.registry = registry;
        this.store = store;
        this.events = events;
        this.clock = clock;
    }

    /// <summary>What waits for a crossing, in the order of the log; null when there is none of that name.</summary>
    public IReadOnlyList<WaitingChange>? Waiting(string crossing) =>
        registry.Find(crossing) is { } entry ? entry.Quarantine.UpTo(entry.Progress.Position) : null;

    /// <summary>What was dropped or edited, the latest first; null when there is no crossing of that name.</summary>
    public async Task<IReadOnlyList<DecidedChange>?> DecidedAsync(string crossing, int most, CancellationToken cancellation) =>
        registry.Find(crossing) is { } entry ? await entry.Quarantine.DecidedAsync(null, most, cancellation) : null;

    /// <summary>Lets refused rows wait as a rule says from now on; null stops the crossing at the first.</summary>
    public async Task SetRuleAsync(string crossing, QuarantineRule? rule, string by, CancellationToken cancellation)
    {
        using var locked = await registry.EnterAsync(crossing, cancellation);
        var entry = locked.Entry;
        var definition = entry.Stored.Definition with { Quarantine = rule };
        if (
            DefinitionRules.Check(definition).FirstOrDefault(problem => problem.Field.StartsWith("quarantine", StringComparison.Ordinal)) is
            { } problem
        )
        {
            throw new RequestRefusedException($"{problem.Field}: {problem.Found}.") { Remedy = problem.Remedy };
        }

        var stored = entry.Stored with { Definition = definition };
        await store.SaveAsync(stored, cancellation);
        entry.Stored = stored;
        await events.OfCrossingAsync(
            crossing,
            EventKind.Note,
            rule is null ? "Quarantine: the crossing stops at the first refused row." : $"Quarantine: {rule.Words} may wait.",
            by
        );
    }

    /// <summary>Asks to have changes tried again, each after those of its row that wait before it.</summary>
    public async Task RetryAsync(string crossing, IReadOnlyCollection<string> ids, string by, CancellationToken cancellation)
    {
        var (entry, chosen) = Find(crossing, ids);
        await entry.Quarantine.ChangeAsync(ids, change => change with { State = WaitingState.Asked }, cancellation);
        await events.OfCrossingAsync(crossing, EventKind.Note, $"Quarantine: {Figures.Of(chosen.Count, "change")} to be tried again.", by);
        entry.Quarantine.Decided.Beat();
    }

    /// <summary>Gives changes up: they never reach the target. What waits behind them is tried.</summary>
    public async Task DropAsync(string crossing, IReadOnlyCollection<string> ids, string reason, string by, CancellationToken cancellation)
    {
        if (string.IsNullOrWhiteSpace(reason))
        {
            throw new RequestRefusedException("No reason is given.")
            {
                Remedy = "Say why the changes may be lost; it is kept with the events.",
            };
        }

        var (entry, chosen) = Find(crossing, ids);
        if (entry.Worker is { Running.IsCompleted: false } && chosen.Any(change => change.State == WaitingState.Asked))
        {
            throw new RequestRefusedException("Some of it is being tried again.") { Remedy = "See what comes of that first." };
        }

        var now = clock.GetUtcNow();
        await entry.Quarantine.DropAsync(ids, cancellation, change => new DecidedChange(change, Dropped: true, by, now, reason.Trim()));
        var tables = string.Join(", ", chosen.GroupBy(change => change.Table).Select(group => $"{group.Count()} of {group.Key}"));
        await events.OfCrossingAsync(
            crossing,
            EventKind.Warning,
            $"Quarantine: {Figures.Of(chosen.Count, "change")} dropped ({tables}): {reason.Trim()}",
            by
        );
        entry.Quarantine.Decided.Beat();
    }

    /// <summary>Changes values of the row after a change, and asks to have it tried again.</summary>
    /// <param name="crossing">The crossing.</param>
    /// <param name="id">The change.</param>
    /// <param name="values">By column, as the source writes them; null for no value.</param>
    /// <param name="by">Who edits.</param>
    /// <param name="cancellation">Gives up.</param>
    public async Task EditAsync(
        string crossing,
        string id,
        IReadOnlyDictionary<string, string?> values,
        string by,
        CancellationToken cancellation
    )
    {
        ArgumentNullException.ThrowIfNull(values);
        var (entry, chosen) = Find(crossing, [id]);
        var edited = RowEdit.Edit(chosen[0], values);
        var (now, columns) = (clock.GetUtcNow(), string.Join(", ", values.Keys));
        await entry.Quarantine.ChangeAsync(
            [id],
            change => edited with { State = WaitingState.Asked, EditedBy = by },
            cancellation,
            change => new DecidedChange(change, Dropped: false, by, now, columns)
        );
        await events.OfCrossingAsync(
            crossing,
            EventKind.Warning,
            $"Quarantine: a row of {chosen[0].Table} edited ({columns}); it differs from the source from then on.",
            by
        );
        entry.Quarantine.Decided.Beat();
    }

    private (CrossingEntry Entry, IReadOnlyList<WaitingChange> Chosen) Find(string crossing, IReadOnlyCollection<string> ids)
    {
        var entry = registry.Existing(crossing);
        var chosen = entry.Quarantine.UpTo(entry.Progress.Position).Where(change => ids.Contains(change.Id)).ToList();
        return ids.Count > 0 && chosen.Count == ids.Distinct().Count()
            ? (entry, chosen)
            : throw new RequestRefusedException(ids.Count == 0 ? "No change is chosen." : "What was chosen does not wait any more.")
            {
                Remedy = "Look at what waits now.",
            };
    }
}
