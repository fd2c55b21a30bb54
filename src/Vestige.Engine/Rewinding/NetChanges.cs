using Vestige.Core.Changes;
using Vestige.Core.Folding;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Rewinding;

/// <summary>
/// What happened to each key of a table between two positions, folded. Keys are cut into groups by their hash, so that the rows of one
/// group are held at a time; the log is read once for each. A change of a key counts as one row that went and one that came, each in the
/// group of its own key.
/// </summary>
/// <param name="spool">Holds what lies between.</param>
/// <param name="table">The table, in the form in which all rows between were logged.</param>
/// <param name="after">From here.</param>
/// <param name="upTo">Up to and with this.</param>
/// <param name="groups">How many groups there are.</param>
internal sealed class NetChanges(Spool spool, TableSchema table, LogPosition after, LogPosition upTo, int groups)
{
    /// <summary>The net changes of one group. Throws <see cref="PortException"/> where the log contradicts itself about a key.</summary>
    public async Task<NetRows> ReadAsync(int group, CancellationToken cancellation)
    {
        var fold = new TableFold(table);
        try
        {
            await SpoolSpan.ReadAsync(spool, after, upTo, fragment => Take(fragment, group, fold), cancellation);
        }
        catch (FoldingException exception)
        {
            throw new PortException(
                $"The log contradicts itself about a row of {table.Name}: {exception.Message}",
                exception
            )
            {
                Remedy = "Choose a later position.",
            };
        }

        return new NetRows(fold.Finish(), fold.Passing);
    }

    private void Take(SpooledFragment fragment, int group, TableFold fold)
    {
        var changes = new ChangeReader(fragment.Changes);
        while (changes.TryRead(out var change))
        {
            if (change.Kind == ChangeKind.Schema || spool.Relation(change.Relation).Name != table.Name)
            {
                continue;
            }

            if (change.Kind == ChangeKind.Update && !change.Before.IsNone && KeyOf(change.Before) != KeyOf(change.After))
            {
                Add(new RowChange(ChangeKind.Delete, 0, change.Before, default), change.Before, group, fold);
                var whole = RowMerge.Fill(change.After, change.Before);
                Add(new RowChange(ChangeKind.Insert, 0, default, whole), whole, group, fold);
            }
            else
            {
                Add(change, change.Kind == ChangeKind.Delete ? change.Before : change.After, group, fold);
            }
        }
    }

    /// <summary>Rows are copied: what is read next takes their place.</summary>
    private void Add(RowChange change, Row keyed, int group, TableFold fold)
    {
        if ((uint)KeyOf(keyed).GetHashCode() % groups == group)
        {
            fold.Add(new RowChange(change.Kind, 0, Copied(change.Before), Copied(change.After)));
        }
    }

    private RowKey KeyOf(Row row) => RowKey.Of(row, table.KeyOrdinals);

    private static Row Copied(Row row) => row.IsNone ? default : new Row(row.Bytes.ToArray());
}
