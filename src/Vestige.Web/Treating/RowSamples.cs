using System.Collections.Concurrent;
using Vestige.Core.Changes;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Web.Connections;

namespace Vestige.Web.Treating;

/// <summary>
/// Some rows of tables for trying treatments on while a person types. They are held in memory for half a minute, so that the
/// source is not asked at each letter, and never written anywhere. Safe for several threads.
/// </summary>
public sealed class RowSamples(ConnectionDirectory connections, TimeProvider clock)
{
    private const int Rows = 5;
    private const int HeldAtMost = 50;
    private static readonly TimeSpan Fresh = TimeSpan.FromSeconds(30);
    private readonly ConcurrentDictionary<(string Connection, TableName Table), (IReadOnlyList<Row> Rows, DateTimeOffset At)> held = new();

    /// <summary>What a treatment makes of them; a row typed in comes first.</summary>
    public async Task<BeforeAfter> OfAsync(
        string connection,
        TableTreatment treatment,
        IReadOnlyList<string?> typed,
        CancellationToken cancellation
    )
    {
        ArgumentNullException.ThrowIfNull(treatment);
        ArgumentNullException.ThrowIfNull(typed);
        var source = connections.Source(connection);
        var rows = await RowsAsync(connection, treatment.Source, cancellation);
        IEnumerable<Row> first = typed.Any(value => !string.IsNullOrEmpty(value))
            ? [BeforeAfter.Typed(treatment.Source, source.Catalogue.Types, typed)]
            : [];
        return new BeforeAfter(treatment, source.Catalogue.Types, first.Concat(rows));
    }

    private async Task<IReadOnlyList<Row>> RowsAsync(string connection, TableSchema table, CancellationToken cancellation)
    {
        var now = clock.GetUtcNow();
        if (held.TryGetValue((connection, table.Name), out var known) && now - known.At < Fresh)
        {
            return known.Rows;
        }

        foreach (var old in held.Where(pair => held.Count > HeldAtMost || now - pair.Value.At >= Fresh).ToList())
        {
            held.TryRemove(old);
        }

        var rows = await connections.Source(connection).Lookup.SampleRowsAsync(table, Rows, cancellation);
        held[(connection, table.Name)] = (rows, now);
        return rows;
    }
}
