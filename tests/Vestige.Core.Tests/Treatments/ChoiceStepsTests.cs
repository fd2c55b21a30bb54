using System.Text.Json;
using CsCheck;
using Vestige.Core.Treatments;
using Xunit;

namespace Vestige.Core.Tests.Treatments;

public class ChoiceStepsTests
{
    private const string Table = "circulation.patron";
    private static readonly string[] Columns = ["id", "name", "email", "born"];

    [Fact]
    public void What_is_chosen_becomes_one_step_of_each_kind_in_a_fixed_order()
    {
        var choices = new TableChoices(
            "id < 100",
            [
                new ColumnChoice("id"),
                new ColumnChoice("name", Name: "full_name", Type: "varchar(80)", AllowLoss: true),
                new ColumnChoice("email", Mask: new MaskedColumn("email", MaskMethod.Hash)),
                new ColumnChoice("born", LeftOut: true, Name: "birthday"),
            ],
            [new SplitTable("copy.young", "id > 50"), new SplitTable("copy.old")]
        );
        TreatmentStep[] before = [new("circulation.loan", Keep: "id > 1")];

        var steps = ChoiceSteps.Of(before, Table)!.With(choices);

        Assert.Equal(["keep", "keep", "convert", "mask", "leaveOut", "rename", "split"], steps.Select(Kind));
        Assert.Same(before[0], steps[0]);
        Assert.Equal(new RenamedColumn("name", "full_name"), Assert.Single(steps[5].Rename!));
        Assert.Equal(new ConvertedColumn("name", "varchar(80)", true), Assert.Single(steps[2].Convert!));
        Assert.Equal(2, steps[6].Split!.Count);
    }

    [Fact]
    public void Steps_of_other_tables_and_those_that_cannot_be_chosen_stay_where_they_are()
    {
        TreatmentStep[] steps =
        [
            new("circulation.*", Rename: [new RenamedColumn("mail", "email")]),
            new(Table, Keep: "id < 5"),
            new("other.*", LeaveOut: ["note"]),
            new(Table, Mask: [new MaskedColumn("email", MaskMethod.Null)]),
            new(Table, Key: ["id"]),
        ];
        var chosen = ChoiceSteps.Of(steps, Table)!;

        Assert.Equal([steps[0]], chosen.Before);
        var read = chosen.Read(Columns)!;
        Assert.Equal(("id < 5", MaskMethod.Null), (read.Keep, read.Columns[2].Mask!.By));
        var made = chosen.With(read with { Keep = null });
        Assert.Equal(["rename", "mask", "leaveOut", "key"], made.Select(Kind));
    }

    public static TheoryData<string, string[]> Others() =>
        new()
        {
            { "a kind twice", ["mask", "mask"] },
            { "a rename before what names the columns", ["rename", "mask"] },
            { "a filter after a mask", ["mask", "keep"] },
        };

    [Theory]
    [MemberData(nameof(Others))]
    public void Steps_that_choices_cannot_say_are_left_to_the_text(string why, string[] kinds)
    {
        Assert.NotEmpty(why);
        Assert.Null(ChoiceSteps.Of([.. kinds.Select(Step)], Table));
    }

    [Fact]
    public void A_step_by_a_pattern_between_those_of_the_table_leaves_them_to_the_text() =>
        Assert.Null(ChoiceSteps.Of([Step("keep"), new TreatmentStep("circulation.*", LeaveOut: ["born"]), Step("mask")], Table));

    [Fact]
    public void A_column_that_is_not_there_leaves_the_steps_to_the_text() =>
        Assert.Null(ChoiceSteps.Of([new TreatmentStep(Table, LeaveOut: ["nowhere"])], Table)!.Read(Columns));

    /// <summary>Whatever is chosen is read back, and writing it again changes nothing.</summary>
    [Fact]
    public void What_was_chosen_is_read_back()
    {
        var column = Gen.Select(Gen.Bool, Gen.String[Gen.Char['a', 'z'], 1, 3], Gen.Int[0, 3])
            .Select(
                (leftOut, word, what) =>
                    new ColumnChoice(
                        "",
                        leftOut,
                        what == 1 && !leftOut ? word : null,
                        what == 2 ? word : null,
                        what == 2 && leftOut,
                        what == 3 ? new MaskedColumn("", MaskMethod.Hash) : null
                    )
            );
        Gen.Select(column.Array[Columns.Length], Gen.Bool, Gen.Int[0, 2])
            .Sample(
                (columns, keep, split) =>
                {
                    var choices = new TableChoices(
                        keep ? "id = 1" : null,
                        [
                            .. columns.Select(
                                (choice, i) =>
                                    choice with
                                    {
                                        Column = Columns[i],
                                        Mask = choice.Mask is { } mask ? mask with { Column = Columns[i] } : null,
                                    }
                            ),
                        ],
                        [.. Enumerable.Range(0, split).Select(i => new SplitTable($"copy.part{i}", $"id = {i}"))]
                    );
                    var steps = ChoiceSteps.Of([new TreatmentStep("other.*", Keep: "a = 1")], Table)!.With(choices);
                    var again = ChoiceSteps.Of(steps, Table)!;
                    var read = again.Read(Columns);
                    return JsonSerializer.Serialize(read) == JsonSerializer.Serialize(choices)
                        && JsonSerializer.Serialize(again.With(read!)) == JsonSerializer.Serialize(steps);
                }
            );
    }

    private static string Kind(TreatmentStep step) => step.Kinds.Single(kind => kind.IsSet).Name;

    private static TreatmentStep Step(string kind) =>
        kind switch
        {
            "keep" => new TreatmentStep(Table, Keep: "id = 1"),
            "mask" => new TreatmentStep(Table, Mask: [new MaskedColumn("email", MaskMethod.Null)]),
            _ => new TreatmentStep(Table, Rename: [new RenamedColumn("name", "title")]),
        };
}
