using System.Collections.Concurrent;
using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Engine.Commands;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Treating;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Structures;

/// <summary>
/// Indexes and constraints that came to source tables after they were loaded: what of them the target lacks, and its building while the
/// crossing follows. Building ends with the process, and can be asked for again. Safe for several threads.
/// </summary>
public sealed class StructureService : IAsyncDisposable
{
    private const int Tries = 10;
    private static readonly TimeSpan TryAgain = TimeSpan.FromSeconds(2);
    private readonly EngineServices services;
    private readonly CrossingRegistry registry;
    private readonly Func<CrossingDefinition, CrossingTreatment> treat;
    private readonly CancellationTokenSource ending = new();
    private readonly ConcurrentDictionary<string, (IReadOnlyList<MissingPart> Parts, Task Running)> jobs = new();

    internal StructureService(EngineServices services, CrossingRegistry registry, Func<CrossingDefinition, CrossingTreatment> treat) =>
        (this.services, this.registry, this.treat) = (services, registry, treat);

    /// <summary>Whether the target of a crossing can be asked for it at all.</summary>
    public bool IsPossible(string crossing) => WhyNot(registry.Existing(crossing)) is null;

    /// <summary>What is being built for a crossing; empty when nothing is.</summary>
    public IReadOnlyList<MissingPart> Running(string crossing) => jobs.TryGetValue(crossing, out var job) ? job.Parts : [];

    /// <summary>
    /// What the target lacks of the tables that follow. Reads both catalogues. Throws <see cref="RequestRefusedException"/> where this
    /// crossing does not make its tables, or its target cannot add anything to them.
    /// </summary>
    public Task<IReadOnlyList<MissingPart>> MissingAsync(string crossing, CancellationToken cancellation) =>
        MissingAsync(crossing, _ => true, cancellation);

    /// <summary>What lack those into which some of the source's tables go.</summary>
    internal async Task<IReadOnlyList<MissingPart>> MissingAsync(
        string crossing,
        Func<TableName, bool> takes,
        CancellationToken cancellation
    )
    {
        var entry = registry.Existing(crossing);
        var (definition, builder) = (entry.Stored.Definition, BuilderOf(entry));
        var treating = treat(definition);
        var known = entry
            .Progress.Tables.Where(table => table is { Held: false, IsInStream: true } && definition.Tables.Takes(table.Table))
            .Select(table => table.Table)
            .Where(treating.IsReplaceable)
            .ToHashSet();
        var there = await services.Connections.Source(definition.Source).Catalogue.ReadTablesAsync(cancellation);
        var treatments = there
            .Where(table => known.Contains(table.Schema.Name))
            .Select(table => treating.TryBuild(table.Schema).Treatment)
            .OfType<Core.Treatments.TableTreatment>()
            .ToList();
        var wanted = services.Connections.Target(definition.Target).Tables.StructureOf(treatments);
        var targets = known.Where(takes).SelectMany(treating.RowTargetsOf).ToHashSet();
        return [.. (await builder.MissingAsync(wanted.Tables, cancellation)).Where(part => targets.Contains(part.Table))];
    }

    /// <summary>
    /// Builds some of what is missing, one after the other; an event tells of each. Throws <see cref="RequestRefusedException"/> where one
    /// of them is not missing; nothing is built then.
    /// </summary>
    /// <param name="crossing">The crossing.</param>
    /// <param name="names">The target's tables and the names of what they lack.</param>
    /// <param name="by">Who asks for it.</param>
    /// <param name="cancellation">Gives up before it begins.</param>
    public async Task BuildAsync(
        string crossing,
        IReadOnlyCollection<(string Table, string Name)> names,
        string by,
        CancellationToken cancellation
    )
    {
        ArgumentNullException.ThrowIfNull(names);
        var missing = (await MissingAsync(crossing, cancellation)).ToDictionary(part => ($"{part.Table}", part.Name));
        if (names.Count == 0)
        {
            throw new RequestRefusedException("Nothing is chosen.") { Remedy = "Choose indexes or constraints." };
        }

        if (names.FirstOrDefault(name => !missing.ContainsKey(name)) is { Name: not null } other)
        {
            throw new RequestRefusedException($"{other.Table} does not lack {other.Name}.") { Remedy = "Look at what is missing." };
        }

        var builder = BuilderOf(registry.Existing(crossing));
        List<MissingPart> parts = [.. names.Distinct().Select(name => missing[name])];
        var begin = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
        if (!jobs.TryAdd(crossing, (parts, RunAsync(crossing, builder, parts, by, begin.Task))))
        {
            begin.SetCanceled(CancellationToken.None);
            throw new RequestRefusedException("Indexes or constraints are being built already.") { Remedy = "Wait until that is done." };
        }

        begin.SetResult();
    }

    /// <summary>What is being built is given up.</summary>
    public async ValueTask DisposeAsync()
    {
        await ending.CancelAsync();
        await Task.WhenAll(jobs.Values.Select(job => job.Running));
        ending.Dispose();
    }

    private async Task RunAsync(string crossing, IStructureBuilder builder, IReadOnlyList<MissingPart> parts, string by, Task begin)
    {
        try
        {
            await begin;
        }
        catch (OperationCanceledException)
        {
            return;
        }

        try
        {
            await BuildAllAsync(crossing, builder, parts, by);
        }
        finally
        {
            jobs.TryRemove(crossing, out _);
        }
    }

    private async Task BuildAllAsync(string crossing, IStructureBuilder builder, IReadOnlyList<MissingPart> parts, string by)
    {
        foreach (var part in parts)
        {
            var began = services.Clock.GetTimestamp();
            var why = await TryAsync(builder, part);
            if (ending.IsCancellationRequested)
            {
                break;
            }

            var what = $"{part.Kind} {part.Name} of {part.Table}";
            await services.Events.OfCrossingAsync(
                crossing,
                why is null ? EventKind.Note : EventKind.Warning,
                why is null
                    ? $"Built on the target: {what}, in {Figures.Duration(services.Clock.GetElapsedTime(began))}."
                    : $"Not built on the target: {what}. {why}",
                by
            );
        }
    }

    /// <summary>Why it cannot be built; null when it was.</summary>
    private async Task<string?> TryAsync(IStructureBuilder builder, MissingPart part)
    {
        for (var tries = 1; ; tries++)
        {
            try
            {
                await builder.BuildAsync(part, ending.Token);
                return null;
            }
            catch (PortException exception) when (exception.Transient && tries < Tries && !ending.IsCancellationRequested)
            {
                await Concurrency.Pause.ForAsync(TryAgain, services.Clock, ending.Token);
            }
            catch (Exception exception) when (exception is PortException or OperationCanceledException)
            {
                return exception.Message;
            }
        }
    }

    private IStructureBuilder BuilderOf(CrossingEntry entry) =>
        WhyNot(entry) is { } why
            ? throw new RequestRefusedException(why) { Remedy = "Add indexes and constraints by hand." }
            : services.Connections.Target(entry.Stored.Definition.Target).Find<IStructureBuilder>()!;

    private string? WhyNot(CrossingEntry entry)
    {
        var definition = entry.Stored.Definition;
        return
            !entry.Stored.Begun || definition.Kind == StartKind.Changes ? $"{entry.Name} has made no tables."
            : services.Connections.Target(definition.Target).Find<IStructureBuilder>() is null
                ? $"Vestige does not add indexes or constraints to tables of {definition.Target}."
            : null;
    }
}
