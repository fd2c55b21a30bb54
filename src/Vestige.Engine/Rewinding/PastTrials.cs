using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Spooling;
using Vestige.Engine.Treating;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Rewinding;

/// <summary>
/// Tries another definition on what the spool holds of the past, before it is taken. Reads only the spool. Safe for several threads.
/// </summary>
public sealed class PastTrials
{
    /// <summary>More changes are not tried at once, nor for longer than this: a person waits for the answer.</summary>
    private const long MostChanges = 1_000_000;
    private static readonly TimeSpan Longest = TimeSpan.FromSeconds(20);
    private const int ReadBytes = 1 << 20;
    private readonly CrossingRegistry registry;
    private readonly Captures captures;
    private readonly Func<CrossingDefinition, CrossingTreatment> treat;
    private readonly TimeProvider clock;

    internal PastTrials(
        CrossingRegistry registry,
        Captures captures,
        Func<CrossingDefinition, CrossingTreatment> treat,
        TimeProvider clock
    ) => (this.registry, this.captures, this.treat, this.clock) = (registry, captures, treat, clock);

    /// <summary>
    /// What a definition would have made of the last changes of its crossing. Throws <see cref="RequestRefusedException"/> where the
    /// source's log is not read.
    /// </summary>
    /// <param name="wanted">The definition, with the name of a crossing that was started.</param>
    /// <param name="back">How far back; what the spool does not hold any more is not tried.</param>
    /// <param name="cancellation">Gives up.</param>
    public async Task<PastTrial> TryAsync(CrossingDefinition wanted, TimeSpan back, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(wanted);
        var definition = registry.Existing(wanted.Name).Stored.Definition;
        if (captures.Find(definition.Source)?.Spool is not { Readable: true } spool)
        {
            throw new RequestRefusedException($"The log of {definition.Source} is not read.") { Remedy = "Start the crossing first." };
        }

        var (before, after) = (treat(definition), treat(wanted));
        var trials = new Dictionary<TableName, TableTrial>();
        var (since, changes, isCut) = (clock.GetUtcNow() - back, 0L, false);
        (DateTimeOffset? first, DateTimeOffset? last) = (null, null);
        var reader = spool.ReadAfter(spool.Begin);
        var (end, began) = (spool.Last, clock.GetTimestamp());
        while (!isCut && await reader.TryReadAsync(ReadBytes, cancellation) is { Count: > 0 } read)
        {
            foreach (var fragment in read.Where(fragment => fragment.CommittedAt >= since && fragment.Count > 0))
            {
                first ??= fragment.CommittedAt;
                last = fragment.CommittedAt;
                changes += Take(spool, fragment, trials, before, after);
            }

            if (read[^1].Position >= end)
            {
                break;
            }

            isCut = changes >= MostChanges || clock.GetElapsedTime(began) > Longest;
        }

        var tables = trials.Values.Select(trial => trial.Result).ToList();
        return new PastTrial(first, last, changes, isCut, [.. tables.OrderByDescending(one => one.Otherwise).ThenBy(one => one.Table)]);
    }

    private static long Take(
        Spool spool,
        SpooledFragment fragment,
        Dictionary<TableName, TableTrial> trials,
        CrossingTreatment before,
        CrossingTreatment after
    )
    {
        var taken = 0L;
        var changes = new ChangeReader(fragment.Changes);
        while (changes.TryRead(out var change))
        {
            var form = spool.Relation(change.Relation);
            if (
                change.Kind is ChangeKind.Schema or ChangeKind.Truncate
                || !(before.Definition.Tables.Takes(form.Name) || after.Definition.Tables.Takes(form.Name))
            )
            {
                continue;
            }

            if (!trials.TryGetValue(form.Name, out var trial))
            {
                trials.Add(form.Name, trial = new TableTrial(form.Name, before, after));
            }

            trial.Take(change.Relation, form, change, fragment.CommittedAt);
            taken++;
        }

        return taken;
    }
}
