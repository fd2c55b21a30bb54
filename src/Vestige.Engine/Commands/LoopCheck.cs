using System.Collections.Concurrent;
using Vestige.Core.Crossings;
using Vestige.Core.Readiness;
using Vestige.Core.Routes;
using Vestige.Core.Schemas;
using Vestige.Engine.Concurrency;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Treating;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Commands;

/// <summary>
/// Looks whether a crossing would bring rows back to where they came from, by way of the others of this installation. Two connections
/// are one database where that says the same of itself, whatever names lead to it, and where it can be asked proves it: a copy of a
/// database's files says the same, and is another database. Safe for several threads.
/// </summary>
internal sealed class LoopCheck(IConnections connections, CrossingRegistry registry, TimeProvider clock)
{
    private static readonly TimeSpan AskFor = TimeSpan.FromSeconds(3);
    private readonly ConcurrentDictionary<string, string> identities = new();

    /// <summary>Whether two connections that say the same are the same, as last proved.</summary>
    private readonly ConcurrentDictionary<(string Connection, string Other, string Identity), bool> proofs = new();

    /// <summary>What a start is refused for; null when there is no loop.</summary>
    /// <param name="definition">The crossing.</param>
    /// <param name="tables">The source's tables that it takes.</param>
    /// <param name="cancellation">Gives up.</param>
    public async Task<ReadinessCheck?> FindAsync(
        CrossingDefinition definition,
        IEnumerable<TableName> tables,
        CancellationToken cancellation
    )
    {
        if (!Follows(definition))
        {
            return null;
        }

        var others = new List<CarriedRows>();
        foreach (
            var entry in registry.All.Where(entry =>
                entry.Name != definition.Name && entry.Stored.Desired != DesiredState.Finish && Follows(entry.Stored.Definition)
            )
        )
        {
            var carried = entry.Progress.Tables.Select(table => table.Table).ToHashSet();
            var only = entry.Stored.Begun && carried.Count > 0 && !entry.Stored.Definition.Tables.Future ? carried : null;
            if (await CarriedAsync(entry.Stored.Definition, only, cancellation) is { } other)
            {
                others.Add(other);
            }
        }

        return await CarriedAsync(definition, null, cancellation) is { } mine && LoopRule.Find(mine, tables, others) is { } loop
            ? new ReadinessCheck(
                "no loop",
                false,
                $"rows of {loop.Table} would return to it through {string.Join(", then ", loop.Crossings)}, and each change would "
                    + "circulate forever",
                "no crossing that leads a table's rows back to it",
                $"Leave {loop.Table} out of one of these crossings.",
                TimeSpan.Zero
            )
            : null;
    }

    /// <summary>
    /// Throws <see cref="RequestRefusedException"/> where a definition would make a loop, as far as its source can be asked in a moment; a
    /// start asks again.
    /// </summary>
    public async Task RefuseAsync(CrossingDefinition definition, CancellationToken cancellation)
    {
        if (!registry.All.Any(entry => entry.Name != definition.Name))
        {
            return;
        }

        using var patience = new Patience(AskFor, clock, cancellation);
        try
        {
            var there = await connections.Source(definition.Source).Catalogue.ReadTablesAsync(patience.Token);
            var taken = TakenTables.Of(definition.Tables, there).Select(table => table.Schema.Name);
            if (await FindAsync(definition, taken, patience.Token) is { } check)
            {
                throw new RequestRefusedException($"A loop: {check.Found}.") { Remedy = check.Remedy! };
            }
        }
        catch (Exception exception)
            when (exception is PortException || (exception is OperationCanceledException && !cancellation.IsCancellationRequested))
        {
            // A definition may be saved while its source is out of reach.
        }
    }

    /// <summary>What is carried once does not come round.</summary>
    private static bool Follows(CrossingDefinition definition) => !definition.EndsByItself && definition.Kind != StartKind.Structure;

    private async Task<CarriedRows?> CarriedAsync(CrossingDefinition definition, HashSet<TableName>? only, CancellationToken cancellation)
    {
        try
        {
            var target = connections.Target(definition.Target);
            return new CarriedRows(
                definition.Name,
                await IdentityAsync(definition.Source, connections.Source(definition.Source).Probe, cancellation),
                await IdentityAsync(definition.Target, target.Probe, cancellation),
                table =>
                    definition.Tables.Takes(table) && only?.Contains(table) != false
                        ? CrossingTreatment.TargetsOf(definition, target, table)
                        : []
            );
        }
        catch (RequestRefusedException)
        {
            // A connection is gone; such a crossing carries nothing.
            return null;
        }
    }

    /// <summary>As last told, while it cannot be reached; by the connection's name where it never was.</summary>
    private async Task<string> IdentityAsync(string connection, IProbe database, CancellationToken cancellation)
    {
        try
        {
            var identity = await database.GetIdentityAsync(cancellation).WaitAsync(AskFor, clock, cancellation);
            return identities[connection] = await ProvedAsync(connection, database, identity, cancellation);
        }
        catch (Exception exception) when (exception is PortException or TimeoutException)
        {
            return identities.GetValueOrDefault(connection, $"connection {connection}");
        }
    }

    /// <summary>What it says of itself, unless another connection says the same and is proved to reach another database.</summary>
    private async Task<string> ProvedAsync(string connection, IProbe database, string identity, CancellationToken cancellation)
    {
        var others = identities
            .Where(known =>
                known.Key != connection && (known.Value == identity || known.Value.StartsWith($"{identity} of ", StringComparison.Ordinal))
            )
            .OrderBy(known => known.Key, StringComparer.Ordinal)
            .ToList();
        foreach (var (other, known) in others)
        {
            if (await IsSameAsync(connection, database, other, identity, cancellation))
            {
                return known;
            }
        }

        return others.Count == 0 ? identity : $"{identity} of {connection}";
    }

    private async Task<bool> IsSameAsync(string connection, IProbe database, string other, string identity, CancellationToken cancellation)
    {
        if (!proofs.TryGetValue((connection, other, identity), out var same))
        {
            same = await database.IsSameAsync(connections.Target(other).Probe, cancellation).WaitAsync(AskFor, clock, cancellation);
            proofs[(connection, other, identity)] = same;
        }

        return same;
    }
}
