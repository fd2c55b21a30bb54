using Vestige.Core.Text;

namespace Vestige.Core.Schemas;

/// <summary>How many rows a table has, as exactly as it can be told without reading all of a large one.</summary>
/// <param name="Rows">The number; of <see cref="RowPrecision.Over"/> those that were counted.</param>
/// <param name="Precision">How exact it is.</param>
public readonly record struct RowCount(long Rows, RowPrecision Precision = RowPrecision.Exact)
{
    /// <summary>So many are counted at most before an estimate is taken.</summary>
    public const int MostCounted = 10_000;

    /// <summary>12 345, about 1 230 000, over 10 000.</summary>
    public override string ToString() =>
        Precision switch
        {
            RowPrecision.Exact => Figures.Count(Rows),
            RowPrecision.About => $"about {Figures.Count(Rounded(Rows))}",
            _ => $"over {Figures.Count(Rows)}",
        };

    /// <summary>The same with its unit: 1 row, about 1 230 000 rows.</summary>
    public string Of(string one) => $"{this} {(this is { Rows: 1, Precision: RowPrecision.Exact } ? one : one + "s")}";

    /// <summary>Both together, as exact as the less exact of them.</summary>
    public static RowCount operator +(RowCount left, RowCount right) =>
        new(left.Rows + right.Rows, left.Precision > right.Precision ? left.Precision : right.Precision);

    /// <summary>Three digits that count.</summary>
    private static long Rounded(long rows)
    {
        var unit = 1L;
        while (rows / unit >= 1000)
        {
            unit *= 10;
        }

        return (rows + (unit / 2)) / unit * unit;
    }
}
