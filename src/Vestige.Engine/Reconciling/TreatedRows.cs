using Vestige.Core.Changes;
using Vestige.Core.Expressions;
using Vestige.Core.Reconciling;
using Vestige.Core.Treatments;

namespace Vestige.Engine.Reconciling;

/// <summary>What the treatment makes of a source's rows for the tables that are compared. Used by one caller at a time.</summary>
internal sealed class TreatedRows(TableTreatment treatment, IReadOnlyList<ComparedTable> tables)
{
    private readonly List<TreatedChange> made = [];
    private readonly Dictionary<ComparedTable, (RowHash Rows, RowHash Keys)> hashes = tables.ToDictionary(
        table => table,
        table => (table.NewRowHash(), table.NewRowHash())
    );

    /// <summary>Why some rows could not be treated; null while all could.</summary>
    public string? Unmade { get; private set; }

    /// <summary>Everything that is made of a row, nothing of none.</summary>
    public List<TreatedChange> Of(Row row)
    {
        var into = new List<TreatedChange>();
        if (!row.IsNone)
        {
            TryLoad(row, into);
        }

        return into;
    }

    /// <summary>The rows of one table that are made of a row, each with the hash of its key.</summary>
    public IEnumerable<(UInt128 Key, ExpectedRow Row)> Of(ComparedTable table, Row row)
    {
        TryLoad(row, made);
        foreach (var (treated, change) in made)
        {
            if (ReferenceEquals(table.Treated, treated))
            {
                var (rows, keys) = hashes[table];
                yield return (
                    keys.Of(change.After, table.Target.Key),
                    new ExpectedRow(table.Target.KeyOf(change.After), rows.Of(change.After, table.Target.Columns), 1, change.After)
                );
            }
        }
    }

    /// <summary>Counts what is made of a row into the digests of its segments.</summary>
    public void Count(Row row, IReadOnlyDictionary<ComparedTable, Segments> cuts, IReadOnlyDictionary<ComparedTable, Digest[]> digests)
    {
        TryLoad(row, made);
        foreach (var (treated, change) in made)
        {
            if (tables.FirstOrDefault(table => ReferenceEquals(table.Treated, treated)) is not { } table)
            {
                continue;
            }

            var (segments, (rows, keys)) = (cuts[table], hashes[table]);
            var segment = segments.AreByHash
                ? segments.Of(default, keys.Of(change.After, table.Target.Key))
                : segments.Of(change.After, table.Target.Key);
            digests[table][segment] = digests[table][segment].With(rows.Of(change.After, table.Target.Columns));
        }
    }

    /// <summary>
    /// A row that cannot be treated is not on the target: it waits there in quarantine, or the crossing stopped before it.
    /// </summary>
    private void TryLoad(Row row, List<TreatedChange> into)
    {
        into.Clear();
        try
        {
            treatment.Load(row, into);
        }
        catch (EvaluationException exception)
        {
            into.Clear();
            Unmade ??= $"some rows cannot be treated: {exception.Message}";
        }
    }
}
