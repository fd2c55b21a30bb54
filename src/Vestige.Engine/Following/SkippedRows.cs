using Vestige.Core.Changes;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Quarantining;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Following;

/// <summary>
/// What one reader of the spool passes over: changes of rows of which an earlier one waits, here or in the quarantine, so that the
/// order of each row holds. Not safe for several threads.
/// </summary>
internal sealed class SkippedRows(Quarantine quarantine, TimeProvider clock)
{
    private readonly Dictionary<TableName, HashSet<RowKey>> rows = [];
    private readonly HashSet<TableName> truncated = [];
    private AsideChanges passed = new();

    /// <summary>What was passed over since this was last called.</summary>
    public AsideChanges Take()
    {
        var taken = passed;
        passed = new AsideChanges();
        return taken;
    }

    /// <summary>What was passed over since then, so far.</summary>
    public AsideChanges Passed => passed;

    /// <summary>Whether nothing waits and nothing was passed over.</summary>
    public bool IsEmpty => quarantine.IsEmpty && rows.Count == 0;

    /// <summary>Whether a row of the table waits, here or in the quarantine.</summary>
    public bool Has(TableName table) => rows.ContainsKey(table) || quarantine.Has(table);

    /// <summary>Passes a change over if an earlier one of its row waits; false when none does.</summary>
    public bool TryPass(TableSchema form, SpooledFragment fragment, RowChange change)
    {
        if (IsEmpty || (!rows.ContainsKey(form.Name) && (truncated.Contains(form.Name) || !quarantine.Has(form.Name))))
        {
            return false;
        }

        var keys = WaitingChange.KeysOf(form, change).ToList();
        var after =
            (rows.TryGetValue(form.Name, out var mine) && keys.Exists(mine.Contains))
            || (!truncated.Contains(form.Name) && quarantine.Blocks(form.Name, keys));
        if (after)
        {
            Add(form, fragment, change, keys, WaitingState.Behind, null, "");
        }

        return after;
    }

    /// <summary>Passes a change over that was refused.</summary>
    public void Refuse(TableSchema form, SpooledFragment fragment, RowChange change, TableName? into, RowRefusedException refusal) =>
        Add(form, fragment, change, [.. WaitingChange.KeysOf(form, change)], WaitingState.Refused, into, refusal.Answer);

    /// <summary>The source has emptied the table: what waits of it counts for nothing any more.</summary>
    public void Truncate(TableSchema form, SpooledFragment fragment)
    {
        if (IsEmpty)
        {
            return;
        }

        rows.Remove(form.Name);
        truncated.Add(form.Name);
        passed.Truncate(form.Name, fragment.Position);
    }

    private void Add(
        TableSchema form,
        SpooledFragment fragment,
        RowChange change,
        List<RowKey> keys,
        WaitingState state,
        TableName? into,
        string answer
    )
    {
        if (!rows.TryGetValue(form.Name, out var mine))
        {
            rows.Add(form.Name, mine = []);
        }

        mine.UnionWith(keys);
        var now = clock.GetUtcNow();
        passed.Add(
            new WaitingChange(
                form,
                change with
                {
                    Before = Copied(change.Before),
                    After = Copied(change.After),
                },
                fragment.Position,
                0,
                fragment.CommittedAt,
                now,
                state,
                into,
                answer,
                state == WaitingState.Refused ? 1 : 0,
                state == WaitingState.Refused ? now : null
            )
        );
    }

    private static Row Copied(Row row) => row.IsNone ? default : new Row(row.Bytes.ToArray());
}
