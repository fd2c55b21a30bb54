using Vestige.Core.Positions;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>Places in the log as the server writes them.</summary>
public sealed class LsnTests
{
    [Theory]
    [InlineData("16/B374D848", "16/B374D848")]
    [InlineData("0/2000028", "0/2000000")]
    [InlineData("0/2002018", "0/2002000")]
    [InlineData("0/2002020", "0/2002020")]
    [InlineData("0/2002000", "0/2002000")]
    public void What_was_written_ends_before_a_pages_header(string next, string end) =>
        Assert.Equal(Lsn.Parse(end), Lsn.EndOf(Lsn.Parse(next)!.Value));

    [Theory]
    [InlineData("")]
    [InlineData("16")]
    [InlineData("/16")]
    [InlineData("1/2/3")]
    [InlineData("x/1")]
    [InlineData("1/123456789")]
    public void What_is_none_is_none(string text) => Assert.Null(Lsn.Parse(text));

    [Fact]
    public void It_is_written_as_it_was_read() => Assert.Equal("16/B374D848", Lsn.Format(new LogPosition((0x16UL << 32) | 0xB374D848)));
}
