using Vestige.Core.Treatments;
using Vestige.Web.Definitions;
using Vestige.Web.Pages.Crossings;
using Xunit;

namespace Vestige.Web.Tests;

/// <summary>Fields and text of a treatment say the same.</summary>
public class TableChoicesFormTests
{
    private const string Table = "circulation.patron";

    private const string Text = """
        # Addresses are nobody's business.
        - tables: circulation.patron
          keep: |-
            id < 100
            AND name <> 'x'   # not the test
        - tables: other.*   # as agreed
          leaveOut: [note]
        - tables: circulation.patron
          mask:
          - column: email
            by: shiftDate
            days: 9
            along: id
            key: second
        """;

    private static readonly string[] Columns = ["id", "name", "email"];

    [Fact]
    public void Fields_that_come_back_as_they_were_drawn_change_nothing()
    {
        var form = Drawn(TreatmentText.Read(Text));
        Assert.False(form.IsChanged);

        // A browser sends line breaks of its own, and leaves out what is empty.
        form.Keep = form.Keep!.Replace("\n", "\r\n", StringComparison.Ordinal);
        form.Columns[0].Name = "";
        form.Split.Add(new SplitChoiceForm());
        Assert.False(form.IsChanged);
    }

    /// <summary>Of a very wide table some columns are shown; what is chosen for the others stays.</summary>
    [Fact]
    public void Columns_that_are_not_shown_keep_their_choices()
    {
        string[] columns = [.. Enumerable.Range(0, 1000).Select(i => $"c{i:000}")];
        var text = TreatmentText.Read("- tables: s.wide\n  leaveOut: [c700, c800]\n");
        var said = ChoiceSteps.Of(text.Steps, "s.wide")!.Read(columns)!;
        var all = TableChoicesForm.Of("s.wide", said);
        Assert.Equal((TableChoicesForm.MostShown, 1000, true), (all.Columns.Count, all.Total, all.IsWide));
        Assert.Equal(["c700", "c800"], all.Columns.Where(column => column.LeftOut).Select(column => column.Column));

        var found = TableChoicesForm.Of("s.wide", said, " C70");
        Assert.Equal(Enumerable.Range(700, 10).Select(i => $"c{i}"), found.Columns.Select(column => column.Column));
        Assert.False(found.IsChanged);
        found.Columns[1].LeftOut = true;
        Assert.True(found.IsChanged);
        Assert.Equal(
            ["c700", "c701", "c800"],
            found.Choices(said).Columns.Where(column => column.LeftOut).Select(column => column.Column)
        );
    }

    [Fact]
    public void A_change_is_written_into_the_text_and_the_rest_of_it_stays_as_a_person_wrote_it()
    {
        var text = TreatmentText.Read(Text);
        var form = Drawn(text);
        form.Columns[1].Name = "full_name";
        Assert.True(form.IsChanged);

        var steps = ChoiceSteps.Of(text.Steps, Table)!;
        var changed = text.With(steps.With(form.Choices(steps.Read(Columns)!)));

        Assert.StartsWith("# Addresses are nobody's business.\n", changed, StringComparison.Ordinal);
        Assert.Contains("- tables: other.*   # as agreed\n", changed, StringComparison.Ordinal);
        Assert.Contains("AND name <> 'x'   # not the test\n", changed, StringComparison.Ordinal);
        var read = TreatmentText.Read(changed);
        Assert.Empty(read.Problems);
        Assert.Equal(4, read.Steps.Count);
        var mask = read.Steps.Single(step => step.Mask is not null).Mask![0];
        Assert.Equal(("id", "second", 9), (mask.Along, mask.Key, mask.Days));
        Assert.Equal("full_name", read.Steps.Single(step => step.Rename is not null).Rename![0].To);
    }

    [Theory]
    [InlineData("hash", null, MaskMethod.Hash)]
    [InlineData("fixed", "hidden", MaskMethod.Fixed)]
    [InlineData("keepLast", "2", MaskMethod.KeepLast)]
    [InlineData("keepLast", "", MaskMethod.KeepLast)]
    [InlineData("email", null, MaskMethod.Pseudonym)]
    [InlineData("null", null, MaskMethod.Null)]
    public void A_mask_is_chosen_by_its_word(string word, string? detail, MaskMethod by)
    {
        var made = new ColumnChoiceForm
        {
            Column = "email",
            Mask = word,
            Detail = detail,
        }
            .Choice(null)
            .Mask!;
        Assert.Equal(by, made.By);
        Assert.Equal(word == "fixed" ? detail : null, made.Value);
        Assert.Equal(by == MaskMethod.KeepLast ? detail == "2" ? 2 : 4 : null, made.Last);
        Assert.Equal(word, ColumnChoiceForm.Of(new ColumnChoice("email", Mask: made)).Mask);
    }

    private static TableChoicesForm Drawn(TreatmentText text) =>
        TableChoicesForm.Of(Table, ChoiceSteps.Of(text.Steps, Table)!.Read(Columns)!);
}
