using System.Collections.Immutable;
using Vestige.Core.Changes;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Quarantining;
using Vestige.Engine.Spooling;
using Vestige.Engine.Treating;

namespace Vestige.Engine.Following;

/// <summary>
/// Applies one transaction of the source row by row, each behind a savepoint in the target's transaction, so that a row that is
/// refused leaves the others as they are.
/// </summary>
/// <param name="session">The hold on the target; the transaction that follows its position is applied.</param>
/// <param name="spool">Where it is read.</param>
/// <param name="treating">What happens to rows.</param>
/// <param name="aside">Takes what is passed over.</param>
/// <param name="tables">The progress per table before it.</param>
/// <param name="refusedAtCommit">Rows of target tables that are refused by the commit, each with the refusal.</param>
/// <param name="allow">Throws when no more may be passed over.</param>
internal sealed class RowIsolation(
    ITargetSession session,
    Spool spool,
    CrossingTreatment treating,
    SkippedRows aside,
    ImmutableDictionary<TableName, TableProgress> tables,
    IReadOnlyDictionary<(TableName Table, string Key), RowRefusedException> refusedAtCommit,
    Action<AsideChanges, RowRefusedException> allow
)
{
    private const int CheckEvery = 100;
    private readonly List<RoutedChange> routed = [];
    private readonly List<RoutedRow> rows = [];
    private readonly ChangeTally tally = new();
    private ChangeRouter? router;
    private RowRefusedException? lastRefusal;
    private int refused;

    /// <summary>What decided about the changes; its progress per table is that after the transaction.</summary>
    public ChangeRouter Router => router ??= new ChangeRouter(spool, treating, aside, tables) { Isolated = rows, Target = Target };

    /// <summary>The target, as routes name it.</summary>
    public required string Target { get; init; }

    /// <summary>What was passed over.</summary>
    public AsideChanges Aside { get; private set; } = new();

    /// <summary>Applies it; returns its last part, how many changes it has, and what was applied of it.</summary>
    public async Task<(SpooledFragment Last, long Changes, ChangeTally Tally)> ApplyAsync(
        ITargetTransaction transaction,
        int partBytes,
        CancellationToken cancellation
    )
    {
        var reader = spool.ReadAfter(session.Progress.Position!.Value);
        var count = 0L;
        while (true)
        {
            foreach (var part in await reader.ReadAsync(partBytes, cancellation))
            {
                await ApplyAsync(transaction, part, cancellation);
                count += part.Count;
                if (part.Last)
                {
                    Aside = aside.Take();
                    Check();
                    return (part, count, tally);
                }
            }
        }
    }

    private async Task ApplyAsync(ITargetTransaction transaction, SpooledFragment part, CancellationToken cancellation)
    {
        var changes = new ChangeReader(part.Changes);
        while (changes.TryRead(out var change))
        {
            Begin();
            Router.Route(part, change, routed);
            await ApplyRowsAsync(transaction, part, cancellation);
        }

        Begin();
        Router.End(part, routed);
        await ApplyRowsAsync(transaction, part, cancellation);
    }

    private void Begin()
    {
        routed.Clear();
        rows.Clear();
    }

    private async Task ApplyRowsAsync(ITargetTransaction transaction, SpooledFragment part, CancellationToken cancellation)
    {
        foreach (var row in rows)
        {
            await ApplyRowAsync(transaction, row, part, cancellation);
        }
    }

    private async Task ApplyRowAsync(ITargetTransaction transaction, RoutedRow row, SpooledFragment part, CancellationToken cancellation)
    {
        var made = routed.GetRange(row.First, row.End - row.First);
        if (made.Count == 0)
        {
            return;
        }

        var into = made[0].Schema.Name;
        try
        {
            await transaction.SavepointAsync(cancellation);
            foreach (var one in made)
            {
                into = one.Schema.Name;
                ThrowIfRefusedAtCommit(one);
                await transaction.ApplyAsync(one.Schema, one.Change, cancellation);
            }
        }
        catch (RowRefusedException refusal) when (row.Change.Kind is ChangeKind.Insert or ChangeKind.Update or ChangeKind.Delete)
        {
            await transaction.RollBackToSavepointAsync(cancellation);
            aside.Refuse(row.Schema, part, row.Change, into, refusal);
            lastRefusal = refusal;
            refused++;
            if (refused % CheckEvery == 0)
            {
                Check();
            }

            return;
        }

        foreach (var one in made)
        {
            tally.Add(one, part);
        }
    }

    private void ThrowIfRefusedAtCommit(RoutedChange one)
    {
        var row = one.Change.After.IsNone ? one.Change.Before : one.Change.After;
        if (
            refusedAtCommit.Count > 0
            && !row.IsNone
            && refusedAtCommit.TryGetValue((one.Schema.Name, RowKey.Display(row, one.Schema.KeyOrdinals)), out var refusal)
        )
        {
            throw refusal;
        }
    }

    private void Check()
    {
        if (lastRefusal is { } refusal)
        {
            allow(Aside.IsNone ? aside.Passed : Aside, refusal);
        }
    }
}
