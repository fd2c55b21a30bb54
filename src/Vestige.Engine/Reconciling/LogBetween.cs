using Vestige.Core.Changes;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Reconciling;

/// <summary>Reads from a spool what happened to some tables between two positions.</summary>
internal static class LogBetween
{
    /// <summary>At most this many changes of a table are held; beyond, its rows cannot be told apart from those in flight.</summary>
    public const long MostChanges = 500_000;

    /// <summary>
    /// What happened to each table after one position up to and with another; the spool holds both. Throws <see cref="PortException"/> when
    /// it cannot be read so far now.
    /// </summary>
    public static async Task<IReadOnlyDictionary<TableName, TableHistory>> ReadAsync(
        Spool spool,
        LogPosition after,
        LogPosition upTo,
        IReadOnlyDictionary<TableName, TableSchema> forms,
        CancellationToken cancellation
    )
    {
        var histories = forms.ToDictionary(pair => pair.Key, pair => new TableHistory(pair.Value));
        await SpoolSpan.ReadAsync(spool, after, upTo, fragment => Take(spool, fragment, histories), cancellation);
        return histories;
    }

    private static void Take(Spool spool, SpooledFragment fragment, Dictionary<TableName, TableHistory> histories)
    {
        var changes = new ChangeReader(fragment.Changes);
        while (changes.TryRead(out var change))
        {
            var form = spool.Relation(change.Relation);
            if (histories.TryGetValue(form.Name, out var history) && history.Changes <= MostChanges)
            {
                history.Take(form, change);
            }
        }
    }
}
