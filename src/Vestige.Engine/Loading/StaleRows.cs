using Vestige.Core.Changes;
using Vestige.Core.Folding;
using Vestige.Core.Loading;
using Vestige.Core.Positions;
using Vestige.Core.Routes;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Engine.Capturing;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;
using Vestige.Engine.Treating;

namespace Vestige.Engine.Loading;

/// <summary>
/// Takes away, before an interrupted load continues, every row whose key was deleted or left between the snapshots. Rows that
/// came back with such a key, and rows that only changed, are read again from the new snapshot; so nothing but deletes need
/// be taken from the log.
/// </summary>
internal sealed class StaleRows(Capture capture, ITargetSession session, CrossingTreatment treating, Route route)
{
    private const int ReadBytes = 4 << 20;
    private readonly Dictionary<TableSchema, Dictionary<RowKey, Row>> gone = new(ReferenceEqualityComparer.Instance);

    /// <summary>
    /// Clears the tables of such rows up to a position, waiting until the spool holds the log that far. Returns the tables
    /// that cannot be gone on with, for their form changed or they were emptied.
    /// </summary>
    public async Task<IReadOnlySet<TableName>> ClearAsync(
        IReadOnlyDictionary<TableName, LoadCheckpoint> parts,
        LogPosition upTo,
        CancellationToken cancellation
    )
    {
        var changed = new HashSet<TableName>();
        await capture.ReachAsync(upTo, cancellation);
        var at = parts.Values.Min(part => part.Since);
        var reader = capture.Spool.ReadAfter(at);
        while (at < upTo)
        {
            // What was reached is there for certain, so an empty read could only mean that the files are being opened again.
            var read = await reader.ReadAsync(ReadBytes, cancellation);
            at = read[^1].Last ? read[^1].Position : at;
            foreach (var fragment in read.TakeWhile(fragment => fragment.Position <= upTo))
            {
                Take(fragment, parts, changed);
            }

            await DeleteAsync(cancellation);
        }

        return changed;
    }

    private void Take(SpooledFragment fragment, IReadOnlyDictionary<TableName, LoadCheckpoint> parts, HashSet<TableName> changed)
    {
        var changes = new ChangeReader(fragment.Changes);
        while (changes.TryRead(out var change))
        {
            var form = capture.Spool.Relation(change.Relation);
            if (!parts.TryGetValue(form.Name, out var part) || fragment.Position <= part.Since)
            {
                continue;
            }

            if (change.Kind is ChangeKind.Schema or ChangeKind.Truncate)
            {
                changed.Add(form.Name);
            }
            else if (!change.Before.IsNone)
            {
                Take(form, change);
            }
        }
    }

    private void Take(TableSchema form, RowChange change)
    {
        var key = RowKey.Of(change.Before, form.KeyOrdinals);
        if (change.Kind == ChangeKind.Update && key == RowKey.Of(change.After, form.KeyOrdinals))
        {
            return;
        }

        if (!gone.TryGetValue(form, out var rows))
        {
            gone.Add(form, rows = []);
        }

        rows.TryAdd(key, change.Before);
    }

    private static List<FoldedRow> Treated(TableTreatment treatment, IEnumerable<Row> rows)
    {
        var made = new List<TreatedChange>();
        foreach (var row in rows)
        {
            treatment.Treat(new RowChange(ChangeKind.Delete, 0, row, default), DateTimeOffset.UnixEpoch, made);
        }

        return [.. made.Select(treated => new FoldedRow(ChangeKind.Delete, treated.Change.Before, default))];
    }

    private async Task DeleteAsync(CancellationToken cancellation)
    {
        if (gone.Count == 0)
        {
            return;
        }

        await using var transaction = await session.BeginAsync(checkReferences: false, route, cancellation);
        foreach (var (form, rows) in gone)
        {
            var treatment = treating.Build(form);
            await transaction.ApplyAsync(
                [new FoldedTable(treatment.Tables[0].Schema, EmptiedFirst: false, Treated(treatment, rows.Values))],
                cancellation
            );
        }

        await transaction.CommitAsync(ProgressUpdate.None, cancellation);
        gone.Clear();
    }
}
