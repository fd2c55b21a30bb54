using CsCheck;
using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Expressions;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Core.Types;
using Xunit;

namespace Vestige.Core.Tests;

public class ChildRowsTests
{
    private static readonly TableSchema Source = new(
        new TableName("circulation", "loan"),
        [
            new Column("id", "integer", Nullable: false, KeyOrdinal: 1),
            new Column("branch", "integer"),
            new Column("items", "json"),
            new Column("tags", "text[]"),
            new Column("note", "text"),
        ],
        [],
        []
    );

    private static readonly TreatmentStep Items = new(
        "circulation.loan",
        Children:
        [
            new ChildRows("items", "circulation.item", "n", [new ChildColumn("title", "t"), new ChildColumn("fee", "f", "decimal")]),
            new ChildRows("tags", "circulation.tag"),
        ]
    );

    /// <summary>As the manual of PostgreSQL prints lists (section 8.15.6); the last are of the shapes that it refuses to print.</summary>
    [Fact]
    public void Lists_are_read_in_the_form_in_which_they_are_printed()
    {
        Assert.Equal(["10000", "10000"], ListElements.Read("{10000,10000}"));
        Assert.Equal(
            ["meeting", "a, b", "say \"x\"", "back\\slash", "", "{}", "NULL", null],
            ListElements.Read("""{meeting,"a, b","say \"x\"","back\\slash","","{}","NULL",NULL}""")
        );
        Assert.Equal(["7", "8"], ListElements.Read("[4:5]={7,8}"));
        Assert.Empty(ListElements.Read("{}"));
        foreach (var wrong in new[] { "", "x", "{", "[1:2]", "{{1,2},{3,4}}", "{\"a\"b}", "{a", "a}" })
        {
            Assert.Throws<EvaluationException>(() => ListElements.Read(wrong));
        }
    }

    [Fact]
    public void Lists_survive_being_written_and_read() =>
        Gen.String.Array.Sample(elements => ListElements.Read($"{{{string.Join(',', elements.Select(Quoted))}}}").SequenceEqual(elements));

    private static string Quoted(string text) =>
        $"\"{text.Replace("\\", "\\\\", StringComparison.Ordinal).Replace("\"", "\\\"", StringComparison.Ordinal)}\"";

    [Fact]
    public void Each_element_becomes_a_row_under_the_key_of_its_parent()
    {
        var treatment = Build(Items, new TreatmentStep("*", LeaveOut: ["items", "tags"]));
        Assert.Equal(
            ["circulation.loan", "circulation.item", "circulation.tag"],
            treatment.Tables.Select(table => table.Schema.Name.ToString())
        );
        Assert.Equal(["id", "n"], treatment.Tables[1].Schema.KeyOrdinals.Select(i => treatment.Tables[1].Schema.Columns[i].Name));
        var made = Treated.Loaded(
            treatment,
            Row("7", "2", """[{"t":"a","f":12345678901234567890.10},{"t":null},{"f":1e2,"t":{"x":[1]}}]""", "{x,NULL}", "n")
        );
        Assert.Equal(
            ["7|2|n", "7|1|a|12345678901234567890.10", "7|2||", "7|3|{\"x\":[1]}|100", "7|1|x", "7|2|"],
            made.Select(change => Treated.Shown(change.Change.After))
        );
    }

    [Fact]
    public void A_change_of_the_parent_that_its_elements_do_not_see_does_not_touch_them()
    {
        var treatment = Build(Items);
        RowChange Change(string? note, string items) =>
            new(ChangeKind.Update, 0, Row("1", "1", """[{"t":"a"},{"t":"b"}]""", "{x}", "n"), Row("1", "1", items, "{x}", note));
        Assert.Single(Treated.By(treatment, Change("other", """[{"t":"a"},{"t":"b"}]""")));
        var made = Treated.By(treatment, Change("n", """[{"t":"a"},{"t":"c"}]"""));
        Assert.Equal(["1|2|c|"], made.Skip(1).Select(change => Treated.Shown(change.Change.After)));
    }

    [Fact]
    public void What_is_not_of_the_kind_is_told_with_its_place()
    {
        var treatment = Build(Items);
        foreach (
            var (items, words) in new[]
            {
                ("""[{"f":"1"}]""", "fee of element 1 is a JSON string that is not decimal"),
                ("""[{},7]""", "element 2 is a JSON number, and title is a member of an object"),
                ("{}", "the value is a JSON object, not an array"),
                ("[", "the value is not JSON"),
            }
        )
        {
            Assert.Equal(
                words,
                Assert.Throws<EvaluationException>(() => Treated.Loaded(treatment, Row("1", "1", items, null, null))).Message
            );
        }

        Assert.Empty(Treated.Loaded(treatment, Row("1", "1", "null", null, null)).Skip(1));
        var absent = TextRow.Of("1", "2", TextRow.Absent, TextRow.Absent, "n");
        Assert.Throws<EvaluationException>(() => Treated.By(treatment, new RowChange(ChangeKind.Delete, 0, absent, default)));
    }

    [Fact]
    public void Steps_of_child_rows_are_named_by_their_column_and_a_pattern_for_the_table_is_not_theirs()
    {
        var treatment = Build(
            Items,
            new TreatmentStep("circulation.loan.items", Mask: [new MaskedColumn("title", MaskMethod.Hash)]),
            new TreatmentStep("circulation.loan*", LeaveOut: ["note"]),
            new TreatmentStep("circulation.loan.tags", Keep: "value <> 'x'")
        );
        var made = Treated.Loaded(treatment, Row("1", "1", """[{"t":"secret"}]""", "{x,y}", "n"));
        Assert.Equal(3, made.Count);
        Assert.DoesNotContain("secret", Treated.Shown(made[1].Change.After), StringComparison.Ordinal);
        Assert.Equal("1|2|y", Treated.Shown(made[2].Change.After));
        Assert.Contains(2, treatment.Hidden);
    }

    [Fact]
    public void What_would_show_a_masked_value_or_cannot_be_found_again_is_refused()
    {
        Assert.Equal(
            "treatment[0].children[0].from",
            Refused(Items, new TreatmentStep("circulation.loan", Mask: [new MaskedColumn("items", MaskMethod.Null)]))
        );
        Assert.Equal("treatment[1].children[0].from", Refused(new TreatmentStep("circulation.loan", LeaveOut: ["items"]), Items));
        Assert.Equal(
            "treatment[0].children[0].from",
            Refused(new TreatmentStep("circulation.loan", Children: [new ChildRows("note", "a.b")]))
        );
        Assert.Equal(
            "treatment[0].children[0].into",
            Refused(new TreatmentStep("circulation.loan", Children: [new ChildRows("items", "b")]))
        );
        Assert.Equal(
            "treatment[0].children[0].columns[0].as",
            Refused(
                new TreatmentStep(
                    "circulation.loan",
                    Children: [new ChildRows("items", "a.b", Columns: [new ChildColumn("x", As: "date")])]
                )
            )
        );
        Assert.Equal(
            "treatment[0].children[0].columns[0]",
            Refused(new TreatmentStep("circulation.loan", Children: [new ChildRows("tags", "a.b", Columns: [new ChildColumn("x", "f")])]))
        );
        Assert.Equal("treatment", Refused(Items, new TreatmentStep("circulation.loan", Combine: new CombinedTable("a.all"))));
        Assert.Equal(["items", "tags"], Build(Items).WholeRowsFor(new JsonTypes()));
    }

    /// <summary>
    /// Whatever happens to rows, the child rows are those of the rows that are there, each change meeting what it expects.
    /// </summary>
    [Fact]
    public void Child_rows_after_any_changes_are_those_of_the_rows_that_are_there()
    {
        var element = Gen.Select(Gen.Bool, Gen.Int[0, 2], (isLong, fee) => $$"""{"t":"{{(isLong ? "a title" : "t")}}","f":{{fee}}}""");
        var items = Gen.Select(Gen.Int[0, 7], element.Array[0, 3], (pick, elements) => pick == 0 ? null
            : pick == 1 ? "null"
            : $"[{string.Join(',', elements)}]");
        var row = Gen.Select(Gen.Int[1, 3], Gen.Int[1, 3], items, (id, branch, value) => Row($"{id}", $"{branch}", value, null, null));
        var treatment = Build(
            Items,
            new TreatmentStep("circulation.loan", Keep: "branch <> 3"),
            new TreatmentStep("circulation.loan.items", Keep: "fee > 0")
        );
        Gen.Select(Gen.Int[1, 3], Gen.Int[0, 3], row)
            .Array[1, 12]
            .Sample(
                changes =>
                {
                    var (rows, children) = (new SortedDictionary<string, Row>(), new SortedDictionary<string, string>());
                    foreach (var (id, deletes, after) in changes)
                    {
                        var had = rows.Remove($"{id}", out var before);
                        var now = deletes == 0 || rows.ContainsKey(after.TextAt(0)) ? default : after;
                        if (!had && now.IsNone)
                        {
                            continue;
                        }

                        var kind =
                            !had ? ChangeKind.Insert
                            : now.IsNone ? ChangeKind.Delete
                            : ChangeKind.Update;
                        foreach (
                            var treated in Treated
                                .By(treatment, new RowChange(kind, 0, before, now))
                                .Where(treated => ReferenceEquals(treated.Table, treatment.Tables[1]))
                        )
                        {
                            Apply(children, treated.Change);
                        }

                        if (!now.IsNone)
                        {
                            rows[now.TextAt(0)] = now;
                        }
                    }

                    var wanted = rows
                        .Values.SelectMany(present =>
                            Treated.Loaded(treatment, present).Where(change => ReferenceEquals(change.Table, treatment.Tables[1]))
                        )
                        .ToDictionary(change => KeyOf(change.Change.After), change => Treated.Shown(change.Change.After));
                    Assert.Equal(
                        wanted.OrderBy(pair => pair.Key, StringComparer.Ordinal),
                        children.OrderBy(pair => pair.Key, StringComparer.Ordinal)
                    );
                },
                threads: 1
            );
    }

    private static void Apply(SortedDictionary<string, string> table, RowChange change)
    {
        if (change.Kind != ChangeKind.Insert)
        {
            Assert.True(table.Remove(KeyOf(change.Before.IsNone ? change.After : change.Before)));
        }

        if (change.Kind != ChangeKind.Delete)
        {
            Assert.True(table.TryAdd(KeyOf(change.After), Treated.Shown(change.After)));
        }
    }

    private static string KeyOf(Row row) => $"{row.DisplayAt(0)}/{row.DisplayAt(1)}";

    private static CrossingDefinition Of(TreatmentStep[] steps) => new("c", "copy", "a", "b", new TableRules([]), Treatment: steps);

    private static TableTreatment Build(params TreatmentStep[] steps)
    {
        var (treatment, problems) = TreatmentBuilder.Build(Of(steps), Source, name => name, new JsonTypes(), new OneKey());
        Assert.Empty(problems);
        return treatment!;
    }

    private static string Refused(params TreatmentStep[] steps) =>
        Assert.Single(TreatmentBuilder.Build(Of(steps), Source, name => name, new JsonTypes(), new OneKey()).Problems).Field;

    private static Row Row(params string?[] values) => TextRow.Of(values);

    private sealed class OneKey : IMaskKeys
    {
        public byte[] Of(string name) => new byte[32];
    }

    private sealed class JsonTypes : IEngineTypes
    {
        public IRowEncoding Encoding => TextEncoding.Instance;

        public int? LongestName => null;

        public string Spelled(string type) => type;

        public ColumnMeaning MeaningOf(Column column) => new(ExpressionTypes.Named(column.Type) ?? ExpressionType.Other);

        public RepeatedValue? RepeatOf(Column column) =>
            column.Type == "json" ? new RepeatedValue(null)
            : column.Type == "text[]" ? new RepeatedValue("text")
            : null;

        public string TypeFor(ExpressionType type) => type.Word();

        public LogicalType TypeOf(Column column) => LogicalType.Of(MeaningOf(column));

        public string Declare(LogicalType type) => TypeFor(ColumnMeaning.Of(type).Type);

        public TypeChange ChangeOf(string from, string to) => new(TypeOutcome.Keeps, "");
    }
}
