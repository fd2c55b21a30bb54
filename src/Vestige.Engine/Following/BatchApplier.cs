using System.Collections.Immutable;
using System.Runtime.CompilerServices;
using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Core.Routes;
using Vestige.Core.Schemas;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;
using Vestige.Engine.Quarantining;
using Vestige.Engine.Spooling;
using Vestige.Engine.Treating;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Following;

/// <summary>
/// Writes batches to the target, rows and position in one transaction. When the target refuses a row of a folded batch,
/// the batch is rolled back and applied again transaction by transaction, unfolded, so that everything before the refused
/// row arrives and the row is named exactly. Where the crossing's rule lets refused rows wait, the transaction is applied once
/// more row by row, and those that are refused go into quarantine.
/// </summary>
/// <param name="session">The hold on the target.</param>
/// <param name="context">What the worker works with.</param>
/// <param name="apart">Whether it applies changes of tables apart from the stream, which say nothing of its lag.</param>
internal sealed class BatchApplier(ITargetSession session, WorkerContext context, bool apart = false)
{
    private static readonly TimeSpan RuleWindow = TimeSpan.FromHours(1);
    private const int PartBytes = 4 << 20;
    private readonly Spool spool = context.Capture.Spool;
    private readonly CrossingTreatment treating = context.Treating;
    private readonly Quarantine quarantine = context.Quarantine;
    private readonly Func<QuarantineRule?> rule = context.Rule;
    private readonly CrossingMeter meter = context.Meter;
    private readonly TimeProvider clock = context.Clock;
    private readonly BatchReporter report = new(context, apart);
    private readonly ISchemaEditor? editor = context.Target.Find<ISchemaEditor>();
    private readonly TransactionWriter writer = new(context);
    private readonly HashSet<(TableName, string)> keptOut = [];

    /// <summary>The source and the target, as routes name them.</summary>
    public required RouteEnds Ends { get; init; }

    /// <summary>
    /// Applies a batch; one that could not be folded transaction by transaction. True when rows went into quarantine, so that what was
    /// gathered meanwhile must be gathered again.
    /// </summary>
    public async Task<bool> ApplyAsync(Batch batch, CancellationToken cancellation)
    {
        if (batch.Folded is null)
        {
            return await ApplyOneByOneAsync(batch, cancellation);
        }

        try
        {
            await using var transaction = await session.BeginAsync(
                OneStream(batch.TablesAfter),
                batch.Folded.Any(table => table.Rows.Count > 0 || table.EmptiedFirst) ? Ends.Of(batch.Fragments[0]) : Route.None,
                cancellation
            );
            var unexpected = await transaction.ApplyAsync(batch.Folded, cancellation);
            await writer.CommitAsync(transaction, batch.Update, batch.Aside, cancellation);
            report.Of(batch.Fragments, batch.Tallies, batch.Treating);
            writer.Unexpected(unexpected, batch.Owners);
            return false;
        }
        catch (RowRefusedException) when (batch.Fragments.Count > 0)
        {
            return await ApplyOneByOneAsync(batch, cancellation);
        }
    }

    /// <summary>
    /// Applies a large transaction part by part, each folded, in one transaction of the target; where the target refuses something of it,
    /// once more, change by change. True as above, and where it was read once more.
    /// </summary>
    public async Task<bool> ApplyLargeAsync(Batch head, BatchGatherer gatherer, ChangeRouter router, CancellationToken cancellation)
    {
        try
        {
            await ApplyPartsAsync(head, gatherer.FragmentsAsync(cancellation), router, fold: true, cancellation);
            return false;
        }
        catch (Exception exception) when (exception is RowRefusedException or SchemaChangeRefusedException)
        {
            await ApplyLargeOneByOneAsync(head, cancellation);
            return true;
        }
    }

    /// <summary>
    /// Reads a large transaction once more, and applies it change by change: without the tables that are held from before it, and without
    /// the rows that are refused.
    /// </summary>
    private async Task ApplyLargeOneByOneAsync(Batch head, CancellationToken cancellation)
    {
        var tables = head.TablesBefore;
        var growth = new TargetGrowth(context, keptOut);
        while (true)
        {
            try
            {
                var parts = NextTransactionAsync(cancellation);
                await ApplyPartsAsync(head, parts, RouterOf(tables), fold: false, cancellation, growth.Edits);
                return;
            }
            catch (SchemaChangeRefusedException refusal)
            {
                tables = tables.SetItem(refusal.Table, Held(tables[refusal.Table], head.Fragments[0].Position, refusal.Message));
            }
            catch (RowRefusedException refusal)
            {
                if (await growth.TryAsync(refusal, cancellation))
                {
                    continue;
                }

                if (rule() is null)
                {
                    throw;
                }

                await IsolateAsync(head.TablesBefore, tables, cancellation);
                return;
            }
        }
    }

    /// <summary>The parts of the transaction after the position of the target.</summary>
    private async IAsyncEnumerable<SpooledFragment> NextTransactionAsync([EnumeratorCancellation] CancellationToken cancellation)
    {
        var reader = spool.ReadAfter(session.Progress.Position!.Value);
        while (true)
        {
            foreach (var part in await reader.ReadAsync(PartBytes, cancellation))
            {
                yield return part;
                if (part.Last)
                {
                    yield break;
                }
            }
        }
    }

    private async Task ApplyPartsAsync(
        Batch head,
        IAsyncEnumerable<SpooledFragment> parts,
        ChangeRouter router,
        bool fold,
        CancellationToken cancellation,
        IReadOnlyList<CarriedEdit>? edits = null
    )
    {
        writer.Begin();
        await using var transaction = await session.BeginAsync(OneStream(router.Tables), Ends.Of(head.Fragments[0]), cancellation);
        await writer.EditTablesAsync(transaction, edits ?? [], cancellation);
        var tally = new ChangeTally();
        var folding = fold ? new FoldedPartWriter(writer, transaction, router, tally) : null;
        SpooledFragment? last = null;
        var changes = 0L;
        await foreach (var part in parts)
        {
            await (
                folding?.AddAsync(part, cancellation)
                ?? writer.ApplyUnfoldedAsync(transaction, router, part, tally, cancellation)
            );
            changes += part.Count;
            context.State.SetInHandChanges(changes);
            last = part with { Changes = default, Count = 0 };
        }

        await (folding?.WriteAsync(cancellation) ?? Task.CompletedTask);
        await writer.CommitAsync(
            transaction,
            new ProgressUpdate(last!.Position, HeldSince(head.TablesBefore, router.Tables), Token: last.Token),
            router.Aside.Take(),
            cancellation
        );
        report.Of([last with { Count = (int)Math.Min(int.MaxValue, changes) }], tally, TimeSpan.Zero);
    }

    /// <summary>
    /// Whether all tables stand at the position of the stream, so that references between them hold. Where only inserts come,
    /// rows stay whose parents have gone; and what refers to a row that waits in quarantine comes before it.
    /// </summary>
    private bool OneStream(ImmutableDictionary<TableName, TableProgress> tables)
    {
        if (!quarantine.IsEmpty)
        {
            return false;
        }

        foreach (var table in tables.Values)
        {
            if (
                table.Held
                || !table.IsInStream
                || table.Position > session.Progress.Position
                || treating.Definition.AppliedAs(table.Table) == ApplyMode.InsertOnly
            )
            {
                return false;
            }
        }

        return true;
    }

    private async Task<bool> ApplyOneByOneAsync(Batch batch, CancellationToken cancellation)
    {
        var router = RouterOf(batch.TablesBefore);
        var isolated = false;
        foreach (var fragment in batch.Fragments)
        {
            var before = router.Tables;
            try
            {
                router = await ApplyGrowingAsync(fragment, router, cancellation);
            }
            catch (RowRefusedException) when (rule() is not null)
            {
                router = await IsolateAsync(before, before, cancellation);
                isolated = true;
            }
            catch (SchemaChangeRefusedException refusal)
            {
                router = await HoldAsync(fragment, before, before[refusal.Table], refusal.Message, cancellation);
                isolated = true;
            }
            catch (RowRefusedException refusal) when (refusal.OfType && before.GetValueOrDefault(refusal.Table) is { Held: false } table)
            {
                var cause =
                    $"A type of its columns has grown at the source: the target does not take {ChangeSymbols.Of(refusal.Kind)} of "
                    + $"{refusal.Key}, {refusal.Answer}.";
                router = await HoldAsync(fragment, before, table, cause, cancellation);
                isolated = true;
            }
        }

        return isolated;
    }

    /// <summary>
    /// Applies a transaction; once more where the target did not take what the source took, and takes it now. Returns the router to
    /// continue with.
    /// </summary>
    private async Task<ChangeRouter> ApplyGrowingAsync(SpooledFragment fragment, ChangeRouter router, CancellationToken cancellation)
    {
        var before = router.Tables;
        for (var growth = new TargetGrowth(context, keptOut); ; router = RouterOf(before))
        {
            try
            {
                await ApplyOneAsync(fragment, router, cancellation, edits: growth.Edits);
                return router;
            }
            catch (RowRefusedException refusal)
            {
                if (!await growth.TryAsync(refusal, cancellation))
                {
                    throw;
                }
            }
        }
    }

    private async Task ApplyOneAsync(
        SpooledFragment fragment,
        ChangeRouter router,
        CancellationToken cancellation,
        ImmutableDictionary<TableName, TableProgress>? known = null,
        IReadOnlyList<CarriedEdit>? edits = null
    )
    {
        var before = known ?? router.Tables;
        var tally = new ChangeTally();
        writer.Begin();
        await using var transaction = await session.BeginAsync(OneStream(router.Tables), Ends.Of(fragment), cancellation);
        await writer.EditTablesAsync(transaction, edits ?? [], cancellation);
        await writer.ApplyUnfoldedAsync(transaction, router, fragment, tally, cancellation);
        await writer.CommitAsync(
            transaction,
            new ProgressUpdate(fragment.Position, HeldSince(before, router.Tables), Token: fragment.Token),
            router.Aside.Take(),
            cancellation
        );
        report.Of([fragment], tally, TimeSpan.Zero);
    }

    /// <summary>Applies a transaction without the changes of a table that is held from it on.</summary>
    private async Task<ChangeRouter> HoldAsync(
        SpooledFragment fragment,
        ImmutableDictionary<TableName, TableProgress> tables,
        TableProgress table,
        string cause,
        CancellationToken cancellation
    )
    {
        var router = RouterOf(tables.SetItem(table.Table, Held(table, fragment.Position, cause)));
        await ApplyOneAsync(fragment, router, cancellation, tables);
        return router;
    }

    /// <summary>
    /// The table held before a transaction. What waits of it in quarantine is of the form that it had, so that it cannot continue.
    /// </summary>
    private TableProgress Held(TableProgress table, LogPosition position, string cause) =>
        table.HeldAt(
            position,
            cause,
            new SkippedRows(quarantine, clock).Has(table.Table) ? null : LogPosition.Max(session.Progress.Position!.Value, table.Position)
        );

    /// <summary>One that begins where the session stands.</summary>
    private ChangeRouter RouterOf(ImmutableDictionary<TableName, TableProgress> tables) =>
        new(spool, treating, new SkippedRows(quarantine, clock), tables)
        {
            Target = Ends.Target,
            Editor = editor,
            Since = session.Progress.Position,
        };

    private static List<TableProgress> HeldSince(
        ImmutableDictionary<TableName, TableProgress> before,
        ImmutableDictionary<TableName, TableProgress> after
    ) => before == after ? [] : [.. after.Values.Where(table => before[table.Table] != table)];

    /// <summary>
    /// Applies the transaction after the position of the target row by row and passes those over that are refused. A reference that is
    /// refused only by the commit is known by the row that the target names; then all of it is done once more without that row.
    /// Throws when more would wait than the rule allows. Returns the router to continue with.
    /// </summary>
    private async Task<ChangeRouter> IsolateAsync(
        ImmutableDictionary<TableName, TableProgress> known,
        ImmutableDictionary<TableName, TableProgress> tables,
        CancellationToken cancellation
    )
    {
        var atCommit = new Dictionary<(TableName Table, string Key), RowRefusedException>();
        while (true)
        {
            var isolating = new RowIsolation(session, spool, treating, new SkippedRows(quarantine, clock), tables, atCommit, Allow)
            {
                Target = Ends.Target,
            };
            await using var transaction = await session.BeginAsync(
                OneStream(tables),
                Ends.Of((await spool.ReadAfter(session.Progress.Position!.Value).ReadAsync(PartBytes, cancellation))[0]),
                cancellation
            );
            var (last, changes, tally) = await isolating.ApplyAsync(transaction, PartBytes, cancellation);
            try
            {
                await writer.CommitAsync(
                    transaction,
                    new ProgressUpdate(last.Position, HeldSince(known, isolating.Router.Tables), Token: last.Token),
                    isolating.Aside,
                    cancellation
                );
            }
            catch (RowRefusedException refusal) when (refusal.Key.Length > 0 && atCommit.TryAdd((refusal.Table, refusal.Key), refusal))
            {
                continue;
            }

            report.Of([last with { Changes = default, Count = (int)Math.Min(int.MaxValue, changes) }], tally, TimeSpan.Zero);
            return RouterOf(isolating.Router.Tables);
        }
    }

    /// <summary>Throws the refusal, as what keeps the crossing from going on, when no more rows may wait.</summary>
    private void Allow(AsideChanges aside, RowRefusedException refusal)
    {
        var now = clock.GetUtcNow();
        var limit = rule();
        if (quarantine.Allows(limit, aside, (long)meter.PointsSince(now - RuleWindow).Sum(point => point.Applied)))
        {
            return;
        }

        throw new RowRefusedException($"{refusal.Message} No more rows are set aside: the rule is {limit?.Words ?? "to stop"}.", refusal)
        {
            Table = refusal.Table,
            Kind = refusal.Kind,
            Key = refusal.Key,
            Answer = refusal.Answer,
            Remedy = "Decide about what waits in quarantine, or let more rows wait; then resume.",
        };
    }
}
