using System.Collections.Concurrent;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Reconciling;

/// <summary>
/// What comparing has said of the tables of one crossing. What it says is durable when a call returns. Safe for several threads.
/// </summary>
public sealed class Verdicts(string crossing, IReconciliationStore? store)
{
    private readonly ConcurrentDictionary<TableName, Verdict> verdicts = new();
    private readonly ConcurrentDictionary<TableName, long> outdated = new();
    private long changes;
    private long allOutdated;

    /// <summary>
    /// The moment at which a comparison begins: what it finds of a table that is loaded again or repaired meanwhile says nothing of it
    /// after.
    /// </summary>
    public long Mark => Interlocked.Read(ref changes);

    /// <summary>What was said of a table; null when it was never compared since it was loaded.</summary>
    public Verdict? Of(TableName table) => verdicts.GetValueOrDefault(table);

    /// <summary>All that was said.</summary>
    public IReadOnlyCollection<Verdict> All => [.. verdicts.Values];

    /// <summary>Reads what was said by an earlier process.</summary>
    public async Task RecallAsync(CancellationToken cancellation)
    {
        foreach (var verdict in await (store?.VerdictsAsync(crossing, cancellation) ?? Task.FromResult<IReadOnlyList<Verdict>>([])))
        {
            verdicts[verdict.Table] = verdict;
        }
    }

    /// <summary>Takes what was found of a source's table and all that its rows go into, by a comparison that began at a mark.</summary>
    public async Task TakeAsync(
        long mark,
        Reconciliation reconciliation,
        TableName table,
        IReadOnlyList<TableFinding> findings,
        CancellationToken cancellation
    )
    {
        ArgumentNullException.ThrowIfNull(reconciliation);
        if (Interlocked.Read(ref allOutdated) > mark || outdated.GetValueOrDefault(table) > mark)
        {
            return;
        }

        var differences = findings.Sum(finding => finding.Missing + finding.Extra + finding.Differing);
        var known = verdicts.GetValueOrDefault(table) ?? new Verdict(table, null);
        if (differences > 0)
        {
            known = known with
            {
                Proved = null,
                Differences = differences,
                Reconciliation = reconciliation.Id,
                FoundAt = findings.Max(finding => finding.At),
                Repaired = false,
            };
        }
        else if (reconciliation.Scope.Proves && findings.Count > 0 && findings.All(finding => finding.IsEqual))
        {
            var rows = reconciliation.Scope.Changed ? known.Proved!.Rows : findings.Sum(finding => finding.SourceRows);
            known = new Verdict(
                table,
                new Proof(findings.Min(finding => finding.Position)!.Value, findings.Max(finding => finding.At)!.Value, rows)
            );
        }
        else
        {
            return;
        }

        await SetAsync([known], cancellation);
    }

    /// <summary>Rows of these tables were repaired: no proof of them holds any more, and they are compared again before others.</summary>
    public Task RepairedAsync(IReadOnlyList<TableName> tables, CancellationToken cancellation)
    {
        Outdate(tables);
        return SetAsync(
            [
                .. tables.Select(table =>
                    (verdicts.GetValueOrDefault(table) ?? new Verdict(table, null)) with
                    {
                        Proved = null,
                        Repaired = true,
                    }
                ),
            ],
            cancellation
        );
    }

    /// <summary>Tables are loaded again: what was said of them does not hold any more. All of them where none are named.</summary>
    public async Task ForgetAsync(IReadOnlyList<TableName>? tables, CancellationToken cancellation)
    {
        Outdate(tables);
        foreach (var table in tables ?? [.. verdicts.Keys])
        {
            verdicts.TryRemove(table, out _);
        }

        await (store?.ForgetVerdictsAsync(crossing, tables, cancellation) ?? Task.CompletedTask);
    }

    /// <summary>What comparisons at work find of these tables may be of before; of all where none are named.</summary>
    private void Outdate(IReadOnlyList<TableName>? tables)
    {
        var now = Interlocked.Increment(ref changes);
        if (tables is null)
        {
            Interlocked.Exchange(ref allOutdated, now);
        }

        foreach (var table in tables ?? [])
        {
            outdated[table] = now;
        }
    }

    private async Task SetAsync(IReadOnlyList<Verdict> said, CancellationToken cancellation)
    {
        await (store?.SaveAsync(crossing, said, cancellation) ?? Task.CompletedTask);
        foreach (var verdict in said)
        {
            verdicts[verdict.Table] = verdict;
        }
    }
}
