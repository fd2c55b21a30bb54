using Vestige.Core.Reconciling;

namespace Vestige.Engine.Reconciling;

/// <summary>What was found of a table so far. Not safe for several threads.</summary>
internal sealed class DifferenceTally
{
    public List<RowDifference> Rows { get; } = [];

    public long Missing { get; private set; }

    public long Extra { get; private set; }

    public long Differing { get; private set; }

    /// <summary>How many differences were counted, listed or not.</summary>
    public long Found { get; private set; }

    public void Add(RowDifference row)
    {
        Rows.Add(row);
        Count(row);
    }

    /// <summary>Takes over the counts of others, and of their rows those that are listed.</summary>
    public void Add(DifferenceTally others, IReadOnlyList<RowDifference> rows)
    {
        (Missing, Extra, Differing, Found) = (
            Missing + others.Missing,
            Extra + others.Extra,
            Differing + others.Differing,
            Found + others.Found
        );
        Rows.AddRange(rows);
    }

    private void Count(RowDifference row)
    {
        Found++;
        Missing += row.Kind == DifferenceKind.Missing ? row.Times : 0;
        Extra += row.Kind == DifferenceKind.Extra ? row.Times : 0;
        Differing += row.Kind == DifferenceKind.Differing ? row.Times : 0;
    }
}
