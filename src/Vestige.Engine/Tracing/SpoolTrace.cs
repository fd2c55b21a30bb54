using Vestige.Core.Changes;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Tracing;

/// <summary>Finds the changes of a row, or of a transaction, in a spool. Safe for several threads.</summary>
/// <param name="spool">Where to look.</param>
/// <param name="cipher">Opens what it holds.</param>
/// <param name="most">At most this many changes are found, the latest where there are more.</param>
public sealed class SpoolTrace(Spool spool, ISpoolCipher cipher, int most)
{
    /// <summary>The forms under which rows of a table were written, the oldest first.</summary>
    public IReadOnlyList<TableSchema> FormsOf(TableName table) =>
        [.. spool.Relations.Where(pair => pair.Value.Name == table).OrderBy(pair => pair.Key).Select(pair => pair.Value)];

    /// <summary>The changes of a row, in log order, and whether there are earlier ones. Truncations of its table are among them.</summary>
    /// <param name="table">The table.</param>
    /// <param name="key">The values of its key, as a person reads them.</param>
    /// <param name="known">The row as it is at the source now; null when that is not known.</param>
    /// <param name="cancellation">Gives up.</param>
    public async Task<(IReadOnlyList<TracedChange> Changes, bool More)> RowAsync(
        TableName table,
        IReadOnlyList<string> key,
        Row? known,
        CancellationToken cancellation
    )
    {
        var traced = new TracedKey(key, known);
        var hashes = FormsOf(table).SelectMany(traced.HashesIn).Append(KeyHash.Of(table)).ToHashSet();
        var (search, latest, more) = (new SpoolSearch(spool, cipher), new List<TracedChange>(), false);
        foreach (var file in search.NewestFirst.TakeWhile(_ => !more))
        {
            var found = new FoundChanges(most - latest.Count);
            await foreach (var fragment in search.FindAsync(file, hashes, cancellation))
            {
                Gather(fragment, (form, change) => form.Name == table && traced.Is(form, change), found);
            }

            latest.InsertRange(0, found.Latest);
            more = found.More;
        }

        return (latest, more);
    }

    /// <summary>The latest changes of a table, in log order, as far as files could be read within a time, the newest first.</summary>
    /// <param name="table">The table.</param>
    /// <param name="patience">A file that is not read to its end by then is left out.</param>
    /// <param name="cancellation">Gives up.</param>
    public async Task<IReadOnlyList<TracedChange>> TableAsync(TableName table, TimeSpan patience, CancellationToken cancellation)
    {
        using var soon = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
        soon.CancelAfter(patience);
        var (search, latest) = (new SpoolSearch(spool, cipher), new List<TracedChange>());
        try
        {
            foreach (var file in search.NewestFirst.TakeWhile(_ => latest.Count < most))
            {
                var found = new FoundChanges(most - latest.Count);
                await foreach (var fragment in search.FindAsync(file, null, soon.Token))
                {
                    Gather(fragment, (form, _) => form.Name == table, found);
                }

                latest.InsertRange(0, found.Latest);
            }
        }
        catch (OperationCanceledException) when (!cancellation.IsCancellationRequested)
        {
            // What was found in newer files is shown.
        }

        return latest;
    }

    /// <summary>The changes of the transaction whose commit stands at a position; none when no such is held.</summary>
    public async Task<(IReadOnlyList<TracedChange> Changes, bool More)> TransactionAsync(
        LogPosition position,
        CancellationToken cancellation
    )
    {
        var found = new FoundChanges(most);
        if (spool.Identity is null || position <= spool.Begin || spool.Branches[position.Branch].Begin >= position.Offset)
        {
            return ([], false);
        }

        var reader = spool.ReadAfter(position.At(position.Offset - 1));
        for (var ended = false; !ended;)
        {
            var read = await reader.TryReadAsync(1, cancellation);
            ended = read.Count == 0;
            foreach (var fragment in read)
            {
                ended |= fragment.Position != position || fragment.Last;
                if (fragment.Position == position)
                {
                    Gather(fragment, (_, _) => true, found);
                }
            }
        }

        return (found.Latest, found.More);
    }

    private void Gather(SpooledFragment fragment, Func<TableSchema, RowChange, bool> wanted, FoundChanges found)
    {
        var changes = new ChangeReader(fragment.Changes);
        while (changes.TryRead(out var change))
        {
            var form = spool.Relation(change.Relation);
            if (wanted(form, change))
            {
                found.Add(
                    new TracedChange(
                        form,
                        change,
                        fragment.Position,
                        fragment.Transactions + (fragment.Last ? 0 : 1),
                        fragment.CommittedAt,
                        fragment.CapturedAt,
                        spool.SyncedAt(fragment.Position),
                        fragment.Origin,
                        []
                    )
                );
            }
        }
    }
}
