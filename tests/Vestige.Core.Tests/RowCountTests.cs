using Vestige.Core.Schemas;
using Xunit;

namespace Vestige.Core.Tests;

/// <summary>Numbers of rows and how exact they are.</summary>
public sealed class RowCountTests
{
    [Theory]
    [InlineData(0, RowPrecision.Exact, "0 rows")]
    [InlineData(1, RowPrecision.Exact, "1 row")]
    [InlineData(12_345, RowPrecision.Exact, "12\u202F345 rows")]
    [InlineData(1_234_567, RowPrecision.About, "about 1\u202F230\u202F000 rows")]
    [InlineData(999_900, RowPrecision.About, "about 1\u202F000\u202F000 rows")]
    [InlineData(10_000, RowPrecision.Over, "over 10\u202F000 rows")]
    public void It_is_told_as_exactly_as_it_is_known(long rows, RowPrecision precision, string words) =>
        Assert.Equal(words, new RowCount(rows, precision).Of("row"));

    [Fact]
    public void A_sum_is_as_exact_as_the_less_exact_part()
    {
        Assert.Equal(new RowCount(15), new RowCount(5) + new RowCount(10));
        Assert.Equal(new RowCount(15, RowPrecision.About), new RowCount(5) + new RowCount(10, RowPrecision.About));
        Assert.Equal(new RowCount(15, RowPrecision.Over), new RowCount(5, RowPrecision.Over) + new RowCount(10, RowPrecision.About));
    }
}
