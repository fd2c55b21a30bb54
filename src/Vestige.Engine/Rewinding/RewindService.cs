using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Engine.Commands;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Following;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;
using Vestige.Engine.Treating;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Rewinding;

/// <summary>
/// Where people have changes applied again, as after others changed rows of the target. It is done by the crossing's own worker while it
/// follows, and continues after a restart. Throws <see cref="RequestRefusedException"/> for what cannot be. Safe for several threads.
/// </summary>
public sealed class RewindService
{
    private readonly EngineServices services;
    private readonly CrossingRegistry registry;
    private readonly Captures captures;
    private readonly Func<CrossingDefinition, CrossingTreatment> treat;

    internal RewindService(
        EngineServices services,
        CrossingRegistry registry,
        Captures captures,
        Func<CrossingDefinition, CrossingTreatment> treat
    ) => (this.services, this.registry, this.captures, this.treat) = (services, registry, captures, treat);

    /// <summary>What is asked and not done yet; null when there is nothing.</summary>
    public Rewind? PendingOf(string crossing) => registry.Existing(crossing).Rewinds.Pending;

    /// <summary>What it would do. Reads only the spool and the source's catalogue.</summary>
    /// <param name="crossing">A crossing that follows.</param>
    /// <param name="place">Changes after here are applied again.</param>
    /// <param name="tables">The source's tables; empty for all.</param>
    /// <param name="cancellation">Gives up.</param>
    public async Task<RewindPlan> PlanAsync(
        string crossing,
        StartPlace place,
        IReadOnlyList<TableName> tables,
        CancellationToken cancellation
    )
    {
        ArgumentNullException.ThrowIfNull(place);
        ArgumentNullException.ThrowIfNull(tables);
        var entry = registry.Existing(crossing);
        var definition = entry.Stored.Definition;
        var (spool, source, target) = (SpoolOf(entry), services.Connections.Source(definition.Source), TargetOf(definition));
        var known = entry.Progress.Tables.Where(table => definition.Tables.Takes(table.Table)).ToDictionary(table => table.Table);
        IReadOnlyList<TableName> names = tables.Count > 0 ? tables : [.. known.Keys.Order()];
        if (names.FirstOrDefault(name => !known.ContainsKey(name)) is { Name: not null } unknown)
        {
            throw new RequestRefusedException($"The crossing has no table {unknown}.") { Remedy = "Name tables of this crossing." };
        }

        var (check, found) = await new PastStart(source, spool, services.Clock).FindAsync(place, names, cancellation);
        if (found is not { } from)
        {
            throw new RequestRefusedException($"Changes cannot be applied again from there: {check.Found}.")
            {
                Remedy = "Choose a later time or position; or wait until the log is read that far.",
            };
        }

        if (from.Branch != spool.Last.Branch)
        {
            throw new RequestRefusedException("The source has another log since then.") { Remedy = "Choose a later time or position." };
        }

        var to = await target.Probe.GetIdentityAsync(cancellation);
        var spans = await TableSpan.ReadAsync(spool, from, spool.Last, names, source.Log.Format, cancellation, to);
        var treating = treat(definition);
        return new RewindPlan(
            from,
            spool.Distance(source.Log, from, spool.Last),
            [
                .. names.Select(name => new RewindTable(
                    name,
                    spans[name].Changes,
                    spans[name].Bytes,
                    ProblemOf(known[name], spans[name], treating)
                )),
            ]
        );
    }

    /// <summary>
    /// Has changes applied again; done when an event says so. Throws where it cannot be for one of the tables; nothing is done then.
    /// </summary>
    public async Task<RewindPlan> AskAsync(
        string crossing,
        StartPlace place,
        IReadOnlyList<TableName> tables,
        string by,
        CancellationToken cancellation
    )
    {
        ArgumentNullException.ThrowIfNull(tables);
        var plan = await PlanAsync(crossing, place, tables, cancellation);
        if (tables.Count > 0 && plan.Tables.FirstOrDefault(table => table.Problem is not null) is { } wrong)
        {
            throw new RequestRefusedException($"Changes of {wrong.Table} cannot be applied again: {wrong.Problem}.")
            {
                Remedy = "Choose a later position, leave the table out, or reload it.",
            };
        }

        if (plan.Possible.Count == 0)
        {
            throw new RequestRefusedException("Changes of none of the tables can be applied again.") { Remedy = "Reload the tables." };
        }

        using var locked = await registry.EnterAsync(crossing, cancellation);
        var entry = locked.Entry;
        if (entry.Rewinds.Pending is not null)
        {
            throw new RequestRefusedException($"Changes of {crossing} are being applied again already.")
            {
                Remedy = "Wait until that is done, or stop it.",
            };
        }

        var rewind = new Rewind(crossing, [.. plan.Possible.Select(table => table.Table)], plan.From, by, services.Clock.GetUtcNow());
        var spool = SpoolOf(entry);
        spool.Retain(HolderOf(crossing), spool.Last, rewind.From);
        await entry.Rewinds.AddAsync(rewind, cancellation);
        var names = Figures.Listed([.. rewind.Tables.Select(table => table.ToString())], 5);
        await services.Events.OfCrossingAsync(
            crossing,
            EventKind.Note,
            $"Changes of {names} are applied again from position {FormatOf(entry, rewind.From)}.",
            by
        );
        return plan;
    }

    /// <summary>Stops what is being applied again; what was written stays, and is right.</summary>
    public async Task StopAsync(string crossing, string by, CancellationToken cancellation)
    {
        using var locked = await registry.EnterAsync(crossing, cancellation);
        if (locked.Entry.Rewinds.Pending is not { } pending)
        {
            throw new RequestRefusedException("Nothing is being applied again.") { Remedy = "Nothing needs to be done." };
        }

        await EndAsync(locked.Entry, pending, cancellation);
        await services.Events.OfCrossingAsync(crossing, EventKind.Note, "Changes are no longer applied again.", by);
    }

    /// <summary>The crossing is removed.</summary>
    internal async Task ForgetAsync(CrossingEntry entry, CancellationToken cancellation)
    {
        if (entry.Rewinds.Pending is { } pending)
        {
            await EndAsync(entry, pending, cancellation);
        }
    }

    private async Task EndAsync(CrossingEntry entry, Rewind pending, CancellationToken cancellation)
    {
        await entry.Rewinds.EndAsync(pending, cancellation);
        captures.Find(entry.Stored.Definition.Source)?.Spool.Release(HolderOf(entry.Name));
    }

    /// <summary>By what name the spool keeps what is applied again.</summary>
    internal static string HolderOf(string crossing) => $"rewind/{crossing}";

    private static string? ProblemOf(TableProgress table, TableSpan span, CrossingTreatment treating) =>
        table.Held ? "it is held"
        : !table.IsInStream ? "it is being loaded, or has not caught up yet"
        : ProblemOf(span, treating);

    /// <summary>Why the changes of a span cannot be applied again, as the end of a sentence; null where they can.</summary>
    internal static string? ProblemOf(TableSpan span, CrossingTreatment treating) =>
        span.Problem is { } problem ? problem
        : span.Form is { } form && !treating.Build(form).IsRepeatable
            ? "its rows on the target are not made from the row alone: history, split or child rows, change marks, or no key"
        : null;

    private string FormatOf(CrossingEntry entry, LogPosition position) =>
        services.Connections.Source(entry.Stored.Definition.Source).Log.Format(position);

    private TargetSystem TargetOf(CrossingDefinition definition)
    {
        var target = services.Connections.Target(definition.Target);
        return target.Find<ITableTarget>() is not null
            ? target
            : throw new RequestRefusedException($"{definition.Target} is no database: changes cannot be applied again there.")
            {
                Remedy = "Nothing needs to be done.",
            };
    }

    private Spool SpoolOf(CrossingEntry entry)
    {
        var definition = entry.Stored.Definition;
        if (definition.Kind != StartKind.RowsThenChanges || definition.Schedule is not null)
        {
            throw new RequestRefusedException($"{entry.Name} does not load tables beside the changes that it follows.")
            {
                Remedy = "Compare and repair: this needs a crossing that loads and then follows, without a schedule.",
            };
        }

        if (!entry.Stored.Runs)
        {
            throw new RequestRefusedException($"{entry.Name} is not running.") { Remedy = "Resume it." };
        }

        return captures.Find(definition.Source)?.Spool is { Readable: true } spool
            ? spool
            : throw new RequestRefusedException($"The log of {definition.Source} is not read.") { Remedy = "Wait until it is." };
    }
}
