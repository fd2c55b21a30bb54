using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Core.Treatments;
using Xunit;

namespace Vestige.Core.Tests.SchemaVersions;

/// <summary>Where a treatment names a column.</summary>
public sealed class ColumnMentionsTests
{
    private static readonly TableName Name = new("shop", "book");

    private static readonly TreatmentStep[] Steps =
    [
        new("shop.*", Keep: "Born > 1900 AND \"title\" <> 'born'"),
        new("shop.book", Rename: [new RenamedColumn("born", "year")]),
        new("shop.book", Mask: [new MaskedColumn("year", MaskMethod.Null)]),
        new("shop.book", Compute: [new ComputedColumn("age", "2000 - year")]),
        new("shop.loan", LeaveOut: ["born"]),
        new("shop.book", LeaveOut: ["title"]),
        new("shop.book", Convert: [new ConvertedColumn("title", "text")]),
    ];

    [Theory]
    [InlineData("born", "filter Born > 1900 AND \"title\" <> 'born'|renamed to year|mask of year|computes age")]
    [InlineData("title", "filter Born > 1900 AND \"title\" <> 'born'|left out")]
    [InlineData("Title", "")]
    [InlineData("isbn", "")]
    public void A_column_is_followed_through_its_renames_until_it_is_left_out(string column, string uses) =>
        Assert.Equal(uses, string.Join('|', ColumnMentions.Of(Steps, Name, column)));

    [Fact]
    public void An_expression_that_cannot_be_read_names_nothing() =>
        Assert.Empty(ColumnMentions.Of([new TreatmentStep("*", Keep: "born > 'x")], Name, "born"));
}
