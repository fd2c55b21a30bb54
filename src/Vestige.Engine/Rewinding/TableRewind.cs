using Vestige.Core.Changes;
using Vestige.Core.Expressions;
using Vestige.Core.Folding;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Core.Treatments;
using Vestige.Engine.Faults;
using Vestige.Engine.Following;
using Vestige.Engine.Ports;
using Vestige.Engine.Quarantining;
using Vestige.Engine.Spooling;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Rewinding;

/// <summary>
/// Changes of one table that are applied again, group by group of its keys: the next is read while others write. See
/// <see cref="RewindRun"/>. Used by one caller at a time.
/// </summary>
internal sealed class TableRewind : IAsyncDisposable
{
    private const long GroupBytes = 16 << 20;
    private readonly WorkerContext context;
    private readonly LogPosition from;
    private readonly LogPosition upTo;
    private readonly RouteEnds ends;
    private readonly AsyncSignal ready;
    private readonly CancellationTokenSource giving = new();
    private Task<NetRows?> reading;
    private volatile bool isReady;
    private TableSpan? span;
    private int group;
    private long written;
    private long missing;
    private long extra;
    private long passedOver;

    public TableRewind(WorkerContext context, TableProgress table, LogPosition from, RouteEnds ends, AsyncSignal ready)
    {
        (this.context, this.from, this.ends, this.ready) = (context, from, ends, ready);
        (Table, upTo) = (table, table.Reached!.Value);
        reading = ReadAsync();
    }

    /// <summary>The table as it was set apart.</summary>
    public TableProgress Table { get; }

    /// <summary>Whether the next group has been read, or cannot be.</summary>
    public bool IsReady => isReady;

    /// <summary>What was done, as a sentence.</summary>
    public string Words =>
        $"{Table.Table}: {Figures.Of(written, "row")} written, of which the target lacked {Figures.Count(missing)}; "
        + $"{Figures.Of(extra, "extra row")} removed"
        + $"{(passedOver == 0 ? "" : $"; {Figures.Of(passedOver, "row")} left alone because of quarantine")}.";

    /// <summary>
    /// Writes what has been read. False when there is no more. Throws <see cref="RowRefusedException"/> where the target does not take a
    /// row, and <see cref="PortException"/> where the log does not say what is to be written.
    /// </summary>
    public async Task<bool> WriteAsync(ITargetSession session, CancellationToken cancellation)
    {
        if (await reading is not { } rows)
        {
            return false;
        }

        var (gone, there) = await MadeAsync(rows, cancellation);
        if (gone.Count + there.Count > 0)
        {
            await using var transaction = await session.BeginAsync(checkReferences: false, ends.OfRows, cancellation);
            extra += gone.Sum(table => (long)table.Rows.Count) - await ApplyAsync(transaction, gone, cancellation);
            missing += await ApplyAsync(transaction, there, cancellation);
            await transaction.CommitAsync(ProgressUpdate.None, cancellation);
        }

        written += there.Sum(table => (long)table.Rows.Count);
        group++;
        isReady = false;
        reading = ReadAsync();
        return true;
    }

    public async ValueTask DisposeAsync()
    {
        await giving.CancelAsync();
        await Task.WhenAny(reading);
        giving.Dispose();
    }

    /// <summary>Returns how many rows were not there.</summary>
    private static async Task<long> ApplyAsync(
        ITargetTransaction transaction,
        IReadOnlyList<FoldedTable> tables,
        CancellationToken cancellation
    ) => tables.Count == 0 ? 0 : (await transaction.ApplyAsync(tables, cancellation)).Values.Sum(counts => counts.Missing);

    /// <summary>The next group; null after the last.</summary>
    private async Task<NetRows?> ReadAsync()
    {
        await Task.Yield();
        try
        {
            var (spool, name) = (context.Capture.Spool, Table.Table);
            span ??= (
                await TableSpan.ReadAsync(spool, from, upTo, [name], context.Source.Log.Format, giving.Token, ends.Target)
            )[name];
            if (RewindService.ProblemOf(span, context.Treating) is { } problem)
            {
                throw new PortException($"{problem}.") { Remedy = "Reload the table." };
            }

            var groups = (int)(span.Bytes / GroupBytes) + 1;
            return span.Form is null || group >= groups
                ? null
                : await new NetChanges(spool, span.Form, from, upTo, groups).ReadAsync(group, giving.Token);
        }
        finally
        {
            isReady = true;
            ready.Beat();
        }
    }

    /// <summary>What is to go on the target, and what is to be there.</summary>
    private async Task<(IReadOnlyList<FoldedTable> Gone, IReadOnlyList<FoldedTable> There)> MadeAsync(
        NetRows rows,
        CancellationToken cancellation
    )
    {
        var treatment = context.Treating.Build(span!.Form!);
        var decided = await DecidedAsync(cancellation);
        var made = new List<TreatedChange>();
        foreach (var (key, after) in rows.Final)
        {
            if (IsLeftAlone(RowKey.Of(key, treatment.Source.KeyOrdinals), decided))
            {
                passedOver++;
                continue;
            }

            try
            {
                treatment.Overwrite(key, after, made);
            }
            catch (EvaluationException exception)
            {
                throw ChangeRouter.Refused(treatment, new RowChange(ChangeKind.Update, 0, key, after), exception);
            }
        }

        return (Folded(made, ChangeKind.Delete), Folded(made, ChangeKind.Update));
    }

    private bool IsLeftAlone(RowKey key, HashSet<RowKey> decided) =>
        decided.Contains(key) || context.Quarantine.Blocks(Table.Table, [key]);

    /// <summary>Rows of which a person has decided that they differ from the source's.</summary>
    private async Task<HashSet<RowKey>> DecidedAsync(CancellationToken cancellation) =>
        (await context.Quarantine.DecidedAsync(Table.Table, DecidedChange.Kept, cancellation))
            .Where(decided => decided.Change.Position > from)
            .SelectMany(decided => decided.Change.Keys)
            .ToHashSet();

    private static IReadOnlyList<FoldedTable> Folded(List<TreatedChange> made, ChangeKind kind) =>
        [
            .. made.Where(one => one.Change.Kind == kind)
                .GroupBy(one => one.Table)
                .Select(table => new FoldedTable(table.Key.Schema, EmptiedFirst: false, [.. table.Select(one => Folded(one.Change))])),
        ];

    private static FoldedRow Folded(RowChange change) =>
        change.Kind == ChangeKind.Delete
            ? new FoldedRow(ChangeKind.Delete, change.Before, default)
            : new FoldedRow(ChangeKind.Update, change.After, change.After) { KnowsKeyOnly = true };
}
