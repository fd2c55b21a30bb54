using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;
using Vestige.Engine.Quarantining;
using Vestige.Engine.Tracing;
using Vestige.Engine.Treating;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Tracing;

/// <summary>
/// Follows rows and transactions from a source's log to the targets, as far back as the spool goes. Safe for several threads.
/// </summary>
public sealed class Tracer
{
    private static readonly TimeSpan TablePatience = TimeSpan.FromSeconds(1);
    private readonly IConnections connections;
    private readonly CrossingRegistry registry;
    private readonly Captures captures;
    private readonly ISpoolCipher cipher;
    private readonly Func<CrossingDefinition, CrossingTreatment> treat;

    internal Tracer(
        IConnections connections,
        CrossingRegistry registry,
        Captures captures,
        ISpoolCipher cipher,
        Func<CrossingDefinition, CrossingTreatment> treat
    )
    {
        this.connections = connections;
        this.registry = registry;
        this.captures = captures;
        this.cipher = cipher;
        this.treat = treat;
    }

    /// <summary>The changes of one row. The key is given by its columns, as a person reads them.</summary>
    public async Task<Trace> RowAsync(string connection, TableName table, IReadOnlyList<string> key, CancellationToken cancellation)
    {
        var spool = captures.Find(connection)?.Spool;
        var trace = spool is null ? null : new SpoolTrace(spool, cipher, Trace.MostChanges);
        if (trace?.FormsOf(table) is not [.., var form])
        {
            return new Trace(connection, table, spool?.Retained(table) is not null, spool?.Begin, spool?.Last, [], false);
        }

        var (changes, more) = await trace.RowAsync(table, key, await KnownAsync(connection, form, key, cancellation), cancellation);
        return new Trace(
            connection,
            table,
            spool!.Retained(table) is not null,
            spool.Begin,
            spool.Last,
            await WithStepsAsync(connection, changes, cancellation),
            more
        );
    }

    /// <summary>The latest changes of a table that the spool holds, newest first; none where it takes too long to find them.</summary>
    /// <param name="connection">The source.</param>
    /// <param name="table">Its table.</param>
    /// <param name="most">The most to return.</param>
    /// <param name="cancellation">Gives up.</param>
    public async Task<IReadOnlyList<RecentChange>> LatestAsync(
        string connection,
        TableName table,
        int most,
        CancellationToken cancellation
    )
    {
        if (captures.Find(connection)?.Spool is not { } spool)
        {
            return [];
        }

        var found = await new SpoolTrace(spool, cipher, most).TableAsync(table, TablePatience, cancellation);
        return
        [
            .. found
                .Reverse()
                .Select(change => new RecentChange(
                    table,
                    change.Change.Kind,
                    RecentChange.KeyOf(change.Schema, change.Change),
                    change.Position,
                    change.CommittedAt,
                    null,
                    change.Origin
                )),
        ];
    }

    /// <summary>The changes of the transaction whose commit stands at a position; none when the spool holds no such.</summary>
    public async Task<Trace> TransactionAsync(string connection, LogPosition position, CancellationToken cancellation)
    {
        var spool = captures.Find(connection)?.Spool;
        if (spool is null)
        {
            return new Trace(connection, null, true, null, null, [], false);
        }

        var (changes, more) = await new SpoolTrace(spool, cipher, Trace.MostChanges).TransactionAsync(position, cancellation);
        return new Trace(connection, null, true, spool.Begin, spool.Last, await WithStepsAsync(connection, changes, cancellation), more);
    }

    /// <summary>The columns of a table on which some crossing of its source puts a mask; all, where that cannot be told.</summary>
    public IReadOnlySet<string> MaskedColumns(string connection, TableSchema form)
    {
        ArgumentNullException.ThrowIfNull(form);
        return Crossings(connection)
            .Where(entry => entry.Stored.Definition.Tables.Takes(form.Name))
            .SelectMany(entry => MaskedBy(treat(entry.Stored.Definition), form))
            .ToHashSet();
    }

    private async Task<List<TracedChange>> WithStepsAsync(
        string connection,
        IReadOnlyList<TracedChange> changes,
        CancellationToken cancellation
    )
    {
        var steps = new Dictionary<TableName, List<CrossingSteps>>();
        foreach (var table in changes.Select(change => change.Schema.Name).Distinct())
        {
            steps.Add(table, await StepsOfAsync(connection, table, cancellation));
        }

        return [.. changes.Select(change => change with { Crossings = [.. steps[change.Schema.Name].Select(step => step.Of(change))] })];
    }

    /// <summary>The row as it is at the source now; a source that cannot be asked leaves the key as it was typed.</summary>
    private async Task<Row?> KnownAsync(string connection, TableSchema form, IReadOnlyList<string> key, CancellationToken cancellation)
    {
        try
        {
            return form.HasKey && form.KeyOrdinals.Count == key.Count
                ? await connections.Source(connection).Lookup.FindAsync(form, key, cancellation)
                : null;
        }
        catch (PortException)
        {
            return null;
        }
    }

    private async Task<List<CrossingSteps>> StepsOfAsync(string connection, TableName table, CancellationToken cancellation)
    {
        var steps = new List<CrossingSteps>();
        foreach (var entry in Crossings(connection).Where(entry => entry.Stored.Begun && entry.Stored.Definition.Tables.Takes(table)))
        {
            steps.Add(
                new CrossingSteps(
                    entry,
                    treat(entry.Stored.Definition),
                    await entry.Quarantine.DecidedAsync(table, DecidedChange.Kept, cancellation)
                )
            );
        }

        return steps;
    }

    private IEnumerable<CrossingEntry> Crossings(string connection) =>
        registry.All.Where(entry => entry.Stored.Definition.Source == connection);

    private static IEnumerable<string> MaskedBy(CrossingTreatment treating, TableSchema form) =>
        treating.TryBuild(form).Treatment is { } treatment
            ? treatment.Hidden.Select(ordinal => form.Columns[ordinal].Name)
            : form.Columns.Select(column => column.Name);
}
