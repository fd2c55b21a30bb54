using Vestige.Core.Changes;
using Vestige.Core.Folding;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Following;

/// <summary>
/// Writes a large transaction part by part, with the changes of each row in some megabytes of it folded into one. What cannot be folded is
/// written as it came, after what came before it; so is a change of a table. A row that is refused need not be named. Not safe for several
/// threads.
/// </summary>
/// <param name="writer">Writes what is not folded.</param>
/// <param name="transaction">One of the target, that ends with the one of the source.</param>
/// <param name="router">Decides about changes.</param>
/// <param name="tally">Counts them.</param>
internal sealed class FoldedPartWriter(TransactionWriter writer, ITargetTransaction transaction, ChangeRouter router, ChangeTally tally)
{
    private const int BytesAtOnce = 16 << 20;
    private readonly Dictionary<TableName, TableFold> folds = [];
    private readonly List<RoutedChange> routed = [];
    private long bytes;

    /// <summary>Takes the next part; its memory is used until <see cref="WriteAsync"/> has returned.</summary>
    public async Task AddAsync(SpooledFragment part, CancellationToken cancellation)
    {
        var changes = new ChangeReader(part.Changes);
        while (changes.TryRead(out var change))
        {
            routed.Clear();
            router.Route(part, change, routed);
            if (router.TakeEdits() is { Count: > 0 } edits)
            {
                await WriteAsync(cancellation);
                await writer.EditTablesAsync(transaction, edits, cancellation);
            }

            await FoldAsync(part, cancellation);
        }

        routed.Clear();
        router.End(part, routed);
        await FoldAsync(part, cancellation);
        bytes += part.Changes.Length;
        if (bytes >= BytesAtOnce)
        {
            await WriteAsync(cancellation);
        }
    }

    /// <summary>Writes what was folded so far.</summary>
    public async Task WriteAsync(CancellationToken cancellation)
    {
        var folded = folds.Values.Select(fold => fold.Finish()).Where(fold => fold.EmptiedFirst || fold.Rows.Count > 0).ToArray();
        folds.Clear();
        bytes = 0;
        if (folded.Length > 0)
        {
            writer.Unexpected(await transaction.ApplyAsync(folded, cancellation), router.Owners);
        }
    }

    private async Task FoldAsync(SpooledFragment part, CancellationToken cancellation)
    {
        foreach (var one in routed)
        {
            if (!TryFold(one))
            {
                await WriteAsync(cancellation);
                await writer.ApplyAsync(transaction, router, one, cancellation);
            }

            tally.Add(one, part);
        }
    }

    private bool TryFold(RoutedChange one) =>
        (
            !folds.TryGetValue(one.Schema.Name, out var fold)
            || ReferenceEquals(fold.Table, one.Schema)
            || fold.Table.SameForm(one.Schema)
        ) && FoldedBatchBuilder.TryFold(folds, one);
}
