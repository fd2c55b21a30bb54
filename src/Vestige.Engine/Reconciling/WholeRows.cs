using Vestige.Core.Changes;
using Vestige.Core.Reconciling;
using Vestige.Core.Treatments;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Reconciling;

/// <summary>Reads rows that differ whole, of which keys and hashes are known.</summary>
/// <param name="table">The table.</param>
/// <param name="source">The source's view.</param>
/// <param name="target">The target's view.</param>
/// <param name="made">What the treatment makes of a row.</param>
internal sealed class WholeRows(ComparedTable table, IRowsView source, IRowsView target, Func<Row, List<TreatedChange>> made)
{
    private readonly RowHash keys = table.NewKeyHash();

    /// <summary>The same rows, each side read as far as it is not at hand.</summary>
    public async Task<IReadOnlyList<RowDifference>> ReadAsync(IReadOnlyList<RowDifference> rows, CancellationToken cancellation)
    {
        var should = await RowsAsync(
            source,
            table.Source,
            rows.Where(row => row.Kind != DifferenceKind.Extra && row.Expected.IsNone),
            treat: true,
            cancellation
        );
        var there = await RowsAsync(
            target,
            table.Target,
            rows.Where(row => row.Kind != DifferenceKind.Missing && row.Found.IsNone),
            treat: false,
            cancellation
        );
        var whole = new List<RowDifference>();
        foreach (var row in rows)
        {
            var key = KeyHash(row.Key);
            whole.Add(
                RowMatching.WithColumns(
                    table,
                    row with
                    {
                        Expected = row.Kind == DifferenceKind.Extra || !row.Expected.IsNone ? row.Expected : should.GetValueOrDefault(key),
                        Found = row.Kind == DifferenceKind.Missing || !row.Found.IsNone ? row.Found : there.GetValueOrDefault(key),
                    }
                )
            );
        }

        return whole;
    }

    private async Task<Dictionary<UInt128, Row>> RowsAsync(
        IRowsView view,
        RowShape? shape,
        IEnumerable<RowDifference> wanted,
        bool treat,
        CancellationToken cancellation
    )
    {
        var rows = new Dictionary<UInt128, Row>();
        List<Row> asked = [.. wanted.Select(row => row.Key)];
        if (asked.Count == 0 || shape is null)
        {
            return rows;
        }

        if (!shape.Table.HasKey)
        {
            // Without a key the row itself is what it is found by.
            return asked.ToDictionary(KeyHash);
        }

        foreach (var row in await view.FindAsync(shape.Table, asked, cancellation))
        {
            foreach (var whole in treat ? made(row).Select(change => change.Change.After) : [row])
            {
                rows[KeyHash(table.Target.KeyOf(whole))] = whole;
            }
        }

        return rows;
    }

    private UInt128 KeyHash(Row key) => keys.Of(key);
}
