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
internal sealed class CauseFinder(Quarantine quarantine, Spool spool, ISpoolCipher cipher, Func<LogPosition, string> format)
{
    private const int LookedAt = 200;
    private const int Changes = 3;

    /// <summary>The findings with causes for the first of their rows.</summary>
    public async Task<IReadOnlyList<TableFinding>> AddAsync(IReadOnlyList<TableFinding> findings, CancellationToken cancellation)
    {
        var known = new List<TableFinding>();
        foreach (var finding in findings)
        {
            var rows = new List<RowDifference>();
            foreach (var row in finding.Rows)
            {
                rows.Add(rows.Count < LookedAt ? row with { Cause = await CauseAsync(finding, row, cancellation) } : row);
            }

            known.Add(finding with { Rows = rows });
        }

        return known;
    }

    private async Task<string?> CauseAsync(TableFinding finding, RowDifference row, CancellationToken cancellation)
    {
        var key = RowKey.Of(row.Key, [.. Enumerable.Range(0, row.Key.Count)]);
        if (quarantine.All.FirstOrDefault(change => change.Table == finding.Source && change.Keys.Contains(key)) is { } waiting)
        {
            return $"left in quarantine{(waiting.Answer.Length > 0 ? $": {waiting.Answer}" : "")}";
        }

        var trace = new SpoolTrace(spool, cipher, Changes);
        if (trace.FormsOf(finding.Source) is not [.., var form])
        {
            // The log that is kept has no change of the whole table.
            return Unchanged(finding);
        }

        if (!form.HasKey || form.KeyOrdinals.Count != row.Key.Count)
        {
            return null;
        }

        var texts = Enumerable.Range(0, row.Key.Count).Select(row.Key.DisplayAt).ToList();
        var (changes, _) = await trace.RowAsync(finding.Source, texts, null, cancellation);
        var last = changes.LastOrDefault(change => change.Position <= finding.Position);
        return (last, row.Kind) switch
        {
            ({ Change.Kind: ChangeKind.Delete } delete, DifferenceKind.Extra) => $"deleted at the source at {At(delete)}; it came back or stayed by another hand",
            ({ } change, _) => $"last changed at the source at {At(change)}; written on the target by somebody else, before or since",
            _ => Unchanged(finding),
        };
    }

    private string? Unchanged(TableFinding finding) => spool.Held(finding.Source) is not null
        ? $"not changed at the source since position {format(spool.Begin)}, where the log that is kept begins: written on the target by somebody else, or different since its load"
        : null;

    private string At(TracedChange change) => FormattableString.Invariant($"position {format(change.Position)} ({change.CommittedAt.UtcDateTime:yyyy-MM-dd HH:mm:ss} UTC)");
}
