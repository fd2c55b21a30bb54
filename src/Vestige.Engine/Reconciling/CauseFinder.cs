using Vestige.Core.Changes;
using Vestige.Core.Positions;
using Vestige.Core.Reconciling;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;
using Vestige.Engine.Quarantining;
using Vestige.Engine.Spooling;
using Vestige.Engine.Tracing;

namespace Vestige.Engine.Reconciling;

/// <summary>Says why a row may differ, where quarantine or the log that is kept gives evidence; nothing where they do not.</summary>
/// <param name="quarantine">What waits.</param>
/// <param name="spool">The log that is kept.</param>
/// <param name="cipher">Opens what is sealed in it.</param>
/// <param name="loaded">The position as of which the rows of a table of the source were loaded.</param>
/// <param name="format">A position as the source writes it.</param>
/// <param name="repairs">The repairs of the crossing, the latest first; asked for once, when a row differs.</param>
internal sealed class CauseFinder(
    Quarantine quarantine,
    Spool spool,
    ISpoolCipher cipher,
    Func<TableName, LogPosition?> loaded,
    Func<LogPosition, string> format,
    Func<CancellationToken, Task<IReadOnlyList<Repair>>> repairs
)
{
    private const int LookedAt = 200;
    private const int Changes = 3;
    private readonly Dictionary<TableName, ILookup<RowKey, DecidedChange>> decisions = [];
    private ILookup<(TableName Table, RowKey Key), RowRepair>? known;

    /// <summary>The findings with causes for the first of their rows.</summary>
    public async Task<IReadOnlyList<TableFinding>> AddAsync(IReadOnlyList<TableFinding> findings, CancellationToken cancellation)
    {
        var explained = new List<TableFinding>();
        foreach (var finding in findings)
        {
            var rows = new List<RowDifference>();
            foreach (var row in finding.Rows)
            {
                rows.Add(rows.Count < LookedAt ? row with { Cause = await CauseAsync(finding, row, cancellation) } : row);
            }

            explained.Add(finding with { Rows = rows });
        }

        return explained;
    }

    private async Task<string?> CauseAsync(TableFinding finding, RowDifference row, CancellationToken cancellation)
    {
        var key = RowKey.Of(row.SourceKey.IsNone ? row.Key : row.SourceKey);
        if (
            quarantine.Blocks(finding.Source, [key])
            && quarantine.All.FirstOrDefault(change => change.Table == finding.Source && change.Keys.Contains(key)) is { } waiting
        )
        {
            return $"left in quarantine{(waiting.Answer.Length > 0 ? $": {waiting.Answer}" : "")}";
        }

        var texts = row.Key.Ordinals.Select(row.Key.DisplayAt).ToList();
        known ??= RepairedRows.ByRow(await repairs(cancellation));
        var latest = known[(finding.Source, RowKey.Of(row.Key))].LastOrDefault();
        var (told, last) = await LastChangeAsync(finding, texts, cancellation);
        if (latest is not null && !(last?.Position > latest.Repair.Position))
        {
            return After(latest);
        }

        var decided = (await DecidedAsync(finding.Source, cancellation))[key].FirstOrDefault();

        // A later change has written the whole row.
        var stands = decided is not null && !(last?.Position > decided.Change.Position) && !(latest?.Repair.At > decided.At);
        return (last, row.Kind) switch
        {
            _ when stands => decided!.Said,
            _ when !told => null,
            ({ Change.Kind: ChangeKind.Delete } delete, DifferenceKind.Extra) =>
                $"deleted at the source at {At(delete)}; it came back or stayed by another hand",
            ({ } change, _) => $"last changed at the source at {At(change)}; written on the target by something else, before or since",
            _ => Unchanged(finding),
        };
    }

    /// <summary>What was decided in quarantine of the rows of a table since it was loaded, the latest first.</summary>
    private async Task<ILookup<RowKey, DecidedChange>> DecidedAsync(TableName table, CancellationToken cancellation)
    {
        if (!decisions.TryGetValue(table, out var found))
        {
            var all = await quarantine.DecidedAsync(table, DecidedChange.Kept, cancellation);
            found = all.Where(one => !(one.Change.Position <= loaded(table)))
                .SelectMany(one => one.Change.Keys.Distinct().Select(key => (Key: key, Decided: one)))
                .ToLookup(one => one.Key, one => one.Decided);
            decisions.Add(table, found);
        }

        return found;
    }

    /// <summary>
    /// The last change of a row up to where it was compared; whether that can be told, and null where the log that is kept has none.
    /// </summary>
    private async Task<(bool Reported, TracedChange? Last)> LastChangeAsync(
        TableFinding finding,
        List<string> key,
        CancellationToken cancellation
    )
    {
        var trace = new SpoolTrace(spool, cipher, Changes);
        if (trace.FormsOf(finding.Source) is not [.., var form])
        {
            return (true, null);
        }

        if (!form.HasKey || form.KeyOrdinals.Count != key.Count)
        {
            return (false, null);
        }

        var (changes, _) = await trace.RowAsync(finding.Source, key, null, cancellation);
        return (true, changes.LastOrDefault(change => change.Position <= finding.Position));
    }

    private string? Unchanged(TableFinding finding) =>
        spool.Retained(finding.Source) is not null
            ? $"not changed at the source since position {format(spool.Begin)}, where the log that is kept begins: written on the "
                + "target by something else, or different since its load"
            : null;

    private string After(RowRepair latest) =>
        latest.Repair.Undoes is null
            ? $"{latest.Words} by a repair of {latest.Repair.By} at position {format(latest.Repair.Position)}; changed on the target "
                + "by something else since"
            : $"{latest.Words}, when {latest.Repair.By} undid that at position {format(latest.Repair.Position)}";

    private string At(TracedChange change) =>
        FormattableString.Invariant($"position {format(change.Position)} ({change.CommittedAt.UtcDateTime:yyyy-MM-dd HH:mm:ss} UTC)");
}
