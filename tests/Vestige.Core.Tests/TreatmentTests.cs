using CsCheck;
using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Expressions;
using Vestige.Core.Folding;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Core.Types;
using Xunit;

namespace Vestige.Core.Tests;

public class TreatmentTests
{
    private static readonly TableName Loan = new("circulation", "loan");

    private static readonly TableSchema Source = new(
        Loan,
        [
            new Column("id", "integer", Nullable: false, KeyOrdinal: 1),
            new Column("branch", "integer"),
            new Column("email", "text"),
            new Column("due", "date"),
            new Column("note", "text"),
        ],
        [],
        []
    );

    [Fact]
    public void Without_steps_rows_cross_as_they_are()
    {
        var treatment = Build();
        Assert.True(treatment.IsIdentity);
        Assert.Equal(Loan, Assert.Single(treatment.Tables).Schema.Name);
    }

    [Fact]
    public void Columns_are_left_out_and_renamed_without_touching_values()
    {
        var treatment = Build(
            new TreatmentStep("circulation.*", LeaveOut: ["note"]),
            new TreatmentStep("*", Rename: [new RenamedColumn("branch", "site")])
        );
        Assert.True(treatment.PassesAll);
        Assert.False(treatment.IsIdentity);
        Assert.Equal(["id", "site", "email", "due"], treatment.Columns.Select(column => column.Name));
        Assert.Equal(
            "1|2|a@b|2026-01-01",
            Treated.Shown(Assert.Single(Treated.Loaded(treatment, Row("1", "2", "a@b", "2026-01-01", "n"))).Change.After)
        );
    }

    [Fact]
    public void A_row_is_written_again_as_the_target_is_to_have_it_or_deleted()
    {
        var treatment = Build(
            new TreatmentStep("*", LeaveOut: ["note"]),
            new TreatmentStep("*", Keep: "branch < 3")
        );
        Assert.True(treatment.IsRepeatable);
        Assert.Equal("~ 1|2|a@b|2026-01-01", Again(treatment, Row("1", "2", "a@b", "2026-01-01", "n"), isThere: true));
        Assert.Equal("− 1", Again(treatment, Row("1", "4", "a@b", "2026-01-01", "n"), isThere: true));
        Assert.Equal("− 1", Again(treatment, Row("1", "2", "a@b", "2026-01-01", "n"), isThere: false));
    }

    [Fact]
    public void Rows_that_say_when_they_were_changed_cannot_be_written_again() =>
        Assert.False(Build(new TreatmentStep("*", Marks: new ChangeMarkColumns("op"))).IsRepeatable);

    private static string Again(TableTreatment treatment, Row row, bool isThere)
    {
        var made = new List<TreatedChange>();
        treatment.Overwrite(row, isThere ? row : default, made);
        var change = Assert.Single(made).Change;
        var values = change.Kind == ChangeKind.Delete ? change.Before : change.After;
        var there = Enumerable.Range(0, values.Count).Where(i => values.KindAt(i) != ValueKind.Absent).Select(values.DisplayAt);
        return $"{ChangeSymbols.Of(change.Kind)} {string.Join('|', there)}";
    }

    [Fact]
    public void Steps_take_effect_in_their_order_each_on_what_the_ones_before_made()
    {
        var treatment = Build(
            new TreatmentStep("*", Compute: [new ComputedColumn("label", "id || '/' || branch")]),
            new TreatmentStep("*", Rename: [new RenamedColumn("label", "tag")]),
            new TreatmentStep("*", Keep: "tag = '1/2'"),
            new TreatmentStep("*", Compute: [new ComputedColumn("branch", "branch * 10")])
        );
        Assert.Equal("1|20|a||n|1/2", Treated.Shown(Assert.Single(Treated.Loaded(treatment, Row("1", "2", "a", null, "n"))).Change.After));
        Assert.Empty(Treated.Loaded(treatment, Row("1", "3", "a", null, "n")));
    }

    [Fact]
    public void A_combined_row_carries_where_it_came_from_as_the_first_part_of_its_key()
    {
        var treatment = Build(
            new TreatmentStep("*", Combine: new CombinedTable("dw.loan", "lib", OriginName.Schema)),
            new TreatmentStep("*", Rename: [new RenamedColumn("lib", "library")])
        );
        var form = Assert.Single(treatment.Tables).Schema;
        Assert.Equal(new SharedRows("library", "circulation"), form.Shared);
        Assert.Equal(["library", "id"], form.KeyOrdinals.Select(i => form.Columns[i].Name));
        Assert.Equal(
            "circulation|1|2|a||n",
            Treated.Shown(Assert.Single(Treated.Loaded(treatment, Row("1", "2", "a", null, "n"))).Change.After)
        );
        Assert.False(treatment.PassesAll);
        var fold = new TableFold(form);
        Assert.Throws<FoldingException>(() => fold.Add(new RowChange(ChangeKind.Truncate, 0, default, default)));
    }

    [Fact]
    public void A_version_ends_where_the_next_begins_and_one_that_says_nothing_new_is_none()
    {
        var definition = Of(new TreatmentStep("*", LeaveOut: ["note", "due", "email"]), new TreatmentStep("*", Keep: "branch < 5")) with
        {
            Apply = [new ApplyRule("*", ApplyMode.KeepVersions)],
        };
        var treatment = Build(definition);
        Assert.Equal(["id", "valid_to"], treatment.Tables[0].Schema.KeyOrdinals.Select(i => treatment.Tables[0].Schema.Columns[i].Name));
        Assert.Equal("1|2||infinity", Treated.Shown(Assert.Single(Treated.Loaded(treatment, Row("1", "2", "a", null, "n"))).Change.After));
        Assert.Equal(
            ["~ 1|–|–|infinity > 1|–|–|2026-03-01 08:00:00+00", "+ 1|3|2026-03-01 08:00:00+00|infinity"],
            Versions(ChangeKind.Update, Row("1", "2", "a", null, "n"), Row("1", "3", "a", null, "n"))
        );
        Assert.Empty(Versions(ChangeKind.Update, Row("1", "2", "a", null, "n"), Row("1", "2", "b", null, "other")));
        Assert.Equal(
            ["~ 1|–|–|infinity > 1|–|–|2026-03-01 08:00:00+00"],
            Versions(ChangeKind.Update, Row("1", "2", "a", null, "n"), Row("1", "9", "a", null, "n"))
        );
        Assert.Equal(
            ["+ 1|2|2026-03-01 08:00:00+00|infinity"],
            Versions(ChangeKind.Update, Row("1", "9", "a", null, "n"), Row("1", "2", "a", null, "n"))
        );
        Assert.Empty(Versions(ChangeKind.Delete, Row("1", "9", "a", null, "n"), default));
        Assert.Throws<EvaluationException>(() => Versions(ChangeKind.Update, default, Row("1", "2", "a", null, "n")));

        List<string> Versions(ChangeKind kind, Row before, Row after)
        {
            var made = new List<TreatedChange>();
            treatment.Treat(new RowChange(kind, 0, before, after), Treated.At, made);
            return
            [
                .. made.Select(one =>
                    $"{ChangeSymbols.Of(one.Change.Kind)} "
                    + $"{(one.Change.Before.IsNone ? "" : $"{Treated.Shown(one.Change.Before)} > ")}{Treated.Shown(one.Change.After)}"
                ),
            ];
        }
    }

    [Fact]
    public void What_tells_combined_rows_apart_is_not_touched()
    {
        TreatmentStep combine = new("*", Combine: new CombinedTable("dw.loan"));
        Assert.Equal(
            "treatment[1].mask[0].column",
            Assert.Single(Refused(combine, new TreatmentStep("*", Mask: [new MaskedColumn("origin", MaskMethod.Null)]))).Field
        );
        Assert.Equal(
            "treatment[1].convert[0].column",
            Assert.Single(Refused(combine, new TreatmentStep("*", Convert: [new ConvertedColumn("origin", "integer")]))).Field
        );
        Assert.Equal("treatment[1].split", Assert.Single(Refused(combine, new TreatmentStep("*", Split: [new SplitTable("a.b")]))).Field);
        Assert.Equal(
            "treatment[0].combine.into",
            Assert.Single(Refused(new TreatmentStep("*", Combine: new CombinedTable("nothing")))).Field
        );
    }

    [Theory]
    [InlineData("1", "1", ChangeKind.Update)]
    [InlineData("1", "2", ChangeKind.Delete)]
    [InlineData("2", "1", ChangeKind.Insert)]
    [InlineData("2", "2", null)]
    [InlineData(null, "1", ChangeKind.Insert)]
    public void A_filter_is_right_in_all_four_cases(string? before, string? after, ChangeKind? expected)
    {
        var treatment = Build(new TreatmentStep("*", Keep: "branch = 1"));
        var treated = Treated.By(
            treatment,
            new RowChange(ChangeKind.Update, 3, Row("7", before, "a", null, null), Row("7", after, "a", null, null))
        );
        Assert.Equal(expected is null ? [] : [expected.Value], treated.Select(change => change.Change.Kind));
        Assert.Equal(["branch"], treatment.WholeRowsFor(TestTypes.Text));
    }

    [Fact]
    public void A_filter_on_the_key_needs_no_whole_rows_before() =>
        Assert.Empty(Build(new TreatmentStep("*", Keep: "id > 5")).WholeRowsFor(TestTypes.Text));

    [Fact]
    public void Rows_go_to_the_first_table_whose_condition_holds_and_move_between_them()
    {
        var treatment = Build(
            new TreatmentStep(
                "*",
                Split: [new SplitTable("w.one", "branch = 1"), new SplitTable("w.low", "branch < 5"), new SplitTable("w.rest")]
            )
        );
        Assert.Equal("w.one", Treated.Loaded(treatment, Row("1", "1", null, null, null))[0].Table.Schema.Name.ToString());
        Assert.Equal("w.low", Treated.Loaded(treatment, Row("1", "3", null, null, null))[0].Table.Schema.Name.ToString());
        Assert.Equal("w.rest", Treated.Loaded(treatment, Row("1", null, null, null, null))[0].Table.Schema.Name.ToString());
        var moved = Treated.By(
            treatment,
            new RowChange(ChangeKind.Update, 0, Row("1", "1", "a", null, null), Row("1", "9", "a", null, null))
        );
        Assert.Equal(
            [("w.one", ChangeKind.Delete), ("w.rest", ChangeKind.Insert)],
            moved.Select(change => (change.Table.Schema.Name.ToString(), change.Change.Kind))
        );
    }

    [Fact]
    public void A_deleted_row_that_is_kept_gets_the_time_and_nothing_else_changes()
    {
        var rule = new ApplyRule("*", ApplyMode.KeepDeleted);
        var treatment = Build(new CrossingDefinition("c", "copy", "a", "b", new TableRules([]), Apply: [rule]));
        var deleted = Assert.Single(Treated.By(treatment, new RowChange(ChangeKind.Delete, 0, KeyOnly("7"), default))).Change;
        Assert.Equal(ChangeKind.Update, deleted.Kind);
        Assert.Equal("7|–|–|–|–|2026-03-01 08:00:00+00", Treated.Shown(deleted.After));
        var back = Assert
            .Single(Treated.By(treatment, new RowChange(ChangeKind.Insert, 0, default, Row("7", "1", "a", null, null))))
            .Change;
        Assert.Equal("7|1|a|||", Treated.Shown(back.After));
    }

    [Fact]
    public void Marks_say_by_what_and_when_a_row_came()
    {
        var treatment = Build(new TreatmentStep("*", Marks: new ChangeMarkColumns("op", "at")));
        Assert.Equal("1|2|a|||load|", Treated.Shown(Treated.Loaded(treatment, Row("1", "2", "a", null, null))[0].Change.After));
        Assert.Equal(
            "1|2|a|||insert|2026-03-01 08:00:00+00",
            Treated.Shown(
                Treated.By(treatment, new RowChange(ChangeKind.Insert, 0, default, Row("1", "2", "a", null, null)))[0].Change.After
            )
        );
    }

    /// <summary>RFC 4231, test cases 1 and 2.</summary>
    [Theory]
    [InlineData("0b0b0b0b0b0b0b0b0b0b0b0b0b0b0b0b0b0b0b0b", "Hi There", "b0344c61d8db38535ca8afceaf0bf12b881dc200c9833da726e9376c2e32cff7")]
    [InlineData("4a656665", "what do ya want for nothing?", "5bdcc146bf60754e6a042426089575c75a003f089d2739839dec58b964ec3843")]
    public void A_keyed_hash_agrees_with_the_published_vectors(string key, string text, string expected)
    {
        var treatment = Build(
            Of(new TreatmentStep("*", Mask: [new MaskedColumn("email", MaskMethod.Hash)])),
            new OneKey(Convert.FromHexString(key))
        );
        Assert.Equal(expected, Treated.Loaded(treatment, Row("1", "2", text, null, null))[0].Change.After.TextAt(2));
    }

    [Fact]
    public void A_pseudonym_is_the_same_in_every_table_and_another_under_another_key() =>
        Gen.Select(Gen.String[1, 30], Gen.Enum<PseudonymKind>())
            .Sample(
                (text, kind) =>
                {
                    string Under(string key, string column, string table) =>
                        Treated
                            .Shown(
                                Treated
                                    .Loaded(
                                        Build(
                                            Of(
                                                new TreatmentStep(
                                                    "*",
                                                    Mask: [new MaskedColumn(column, MaskMethod.Pseudonym, Kind: kind, Key: key)]
                                                )
                                            ),
                                            new NamedKeys(),
                                            Source with
                                            {
                                                Name = new TableName("other", table),
                                            }
                                        ),
                                        column == "email" ? Row("1", "2", text, null, null) : Row("1", "2", null, null, text)
                                    )[0]
                                    .Change.After
                            )
                            .Split('|')[column == "email" ? 2 : 4];
                    Assert.Equal(Under("a", "email", "x"), Under("a", "note", "y"));
                    Assert.NotEqual(text, Under("a", "email", "x"));
                    if (kind != PseudonymKind.Name)
                    {
                        Assert.NotEqual(Under("a", "email", "x"), Under("b", "email", "x"));
                    }
                }
            );

    [Fact]
    public void Dates_of_one_person_move_together_and_never_stay()
    {
        var treatment = Build(
            Of(new TreatmentStep("*", Mask: [new MaskedColumn("due", MaskMethod.ShiftDate, Days: 10, Along: "branch")])),
            new NamedKeys()
        );
        long Day(string id, string branch, string due) =>
            CivilTime.ParseDate(Treated.Loaded(treatment, Row(id, branch, null, due, null))[0].Change.After.TextAt(3))!.Value;
        var origin = CivilTime.ParseDate("2026-01-01")!.Value;
        for (var branch = 0; branch < 200; branch++)
        {
            var shift = Day("1", $"{branch}", "2026-01-01") - origin;
            Assert.InRange(Math.Abs(shift), 1, 10);
            Assert.Equal(30, Day("2", $"{branch}", "2026-01-31") - Day("1", $"{branch}", "2026-01-01"));
        }

        Assert.Equal("infinity", Treated.Loaded(treatment, Row("1", "1", null, "infinity", null))[0].Change.After.TextAt(3));
    }

    [Theory]
    [InlineData("4111 1111 2222", 4, "********** 2222")]
    [InlineData("abc", 4, "***")]
    [InlineData("😀😀x", 1, "**x")]
    public void The_last_characters_stay(string text, int last, string expected) =>
        Assert.Equal(
            expected.Replace("********** 2222", "**********2222", StringComparison.Ordinal),
            Treated
                .Loaded(
                    Build(new TreatmentStep("*", Mask: [new MaskedColumn("email", MaskMethod.KeepLast, Last: last)])),
                    Row("1", "2", text, null, null)
                )[0]
                .Change.After.TextAt(2)
        );

    [Fact]
    public void A_null_stays_null_under_every_mask_but_the_fixed_one()
    {
        foreach (
            var mask in new[]
            {
                new MaskedColumn("email", MaskMethod.Hash),
                new MaskedColumn("email", MaskMethod.Pseudonym),
                new MaskedColumn("email", MaskMethod.KeepLast, Last: 2),
                new MaskedColumn("email", MaskMethod.Null),
            }
        )
        {
            Assert.Equal(
                ValueKind.Null,
                Treated.Loaded(Build(new TreatmentStep("*", Mask: [mask])), Row("1", "2", null, null, null))[0].Change.After.KindAt(2)
            );
        }

        Assert.Equal(
            "x",
            Treated
                .Loaded(
                    Build(new TreatmentStep("*", Mask: [new MaskedColumn("email", MaskMethod.Fixed, Value: "x")])),
                    Row("1", "2", null, null, null)
                )[0]
                .Change.After.TextAt(2)
        );
    }

    [Fact]
    public void A_value_that_the_log_left_out_stays_left_out_under_a_mask()
    {
        var treatment = Build(new TreatmentStep("*", Mask: [new MaskedColumn("email", MaskMethod.Hash)]));
        var change = Assert
            .Single(
                Treated.By(treatment, new RowChange(ChangeKind.Update, 0, default, TextRow.Of("7", "7", TextRow.Absent, "2026-01-01", "7")))
            )
            .Change;
        Assert.Equal(ValueKind.Absent, change.After.KindAt(2));
    }

    public static TheoryData<TreatmentStep, string, string> Wrong =>
        new()
        {
            { new TreatmentStep("*", Keep: "brnch = 1"), "treatment[0].keep", "at character 1: There is no column brnch" },
            { new TreatmentStep("*", Keep: "branch"), "treatment[0].keep", "A condition is true" },
            { new TreatmentStep("*", LeaveOut: ["id"]), "treatment[0].leaveOut[0]", "in the key" },
            { new TreatmentStep("*", LeaveOut: ["nothing"]), "treatment[0].leaveOut[0]", "no column nothing" },
            { new TreatmentStep("*", Rename: [new RenamedColumn("branch", "email")]), "treatment", "two columns email" },
            { new TreatmentStep("*", Convert: [new ConvertedColumn("note", "varchar(2)")]), "treatment[0].convert[0].to", "cut" },
            { new TreatmentStep("*", Compute: [new ComputedColumn("id", "1")]), "treatment[0].compute[0].column", "in the key" },
            {
                new TreatmentStep("*", Mask: [new MaskedColumn("id", MaskMethod.Fixed, Value: "1")]),
                "treatment[0].mask[0].by",
                "make rows one"
            },
            {
                new TreatmentStep("*", Mask: [new MaskedColumn("branch", MaskMethod.KeepLast, Last: 2)]),
                "treatment[0].mask[0].by",
                "text only"
            },
            {
                new TreatmentStep("*", Mask: [new MaskedColumn("email", MaskMethod.Hash, Last: 2)]),
                "treatment[0].mask[0].last",
                "another method"
            },
            {
                new TreatmentStep("*", Mask: [new MaskedColumn("branch", MaskMethod.Fixed, Value: "x")]),
                "treatment[0].mask[0].value",
                "not integer"
            },
            {
                new TreatmentStep("*", Split: [new SplitTable("w.rest"), new SplitTable("w.one", "branch = 1")]),
                "treatment[0].split[0]",
                "all other rows"
            },
            { new TreatmentStep("*", Split: [new SplitTable("rest")]), "treatment[0].split[0].into", "not a table name" },
        };

    [Theory]
    [MemberData(nameof(Wrong))]
    public void What_cannot_be_done_is_told_with_its_field(TreatmentStep step, string field, string found)
    {
        var (treatment, problems) = TreatmentBuilder.Build(Of(step), Source, name => name, TestTypes.Text, new NamedKeys());
        Assert.Null(treatment);
        Assert.Contains(problems, problem => problem.Field == field && problem.Found.Contains(found, StringComparison.Ordinal));
    }

    /// <summary>A treated stream, folded and applied, leaves the tables as if the final state of the source had been treated.</summary>
    [Theory]
    [InlineData(0)]
    [InlineData(1)]
    [InlineData(2)]
    public void The_treated_stream_ends_as_the_treated_end(int which)
    {
        TreatmentStep[] steps = which switch
        {
            0 => [new TreatmentStep("*", Keep: "branch < 3")],
            1 =>
            [
                new TreatmentStep(
                    "*",
                    Split: [new SplitTable("w.a", "branch < 2"), new SplitTable("w.b", "email = 'x'"), new SplitTable("w.c")]
                ),
            ],
            _ =>
            [
                new TreatmentStep("*", Keep: "branch <> 1"),
                new TreatmentStep("*", Mask: [new MaskedColumn("email", MaskMethod.Hash)]),
                new TreatmentStep("*", Split: [new SplitTable("w.a", "branch = 2"), new SplitTable("w.b", "id % 2 = 0")]),
            ],
        };
        Gen.Select(Gen.Int[0, 3], Gen.Int[1, 4], Gen.Int[0, 5], Gen.Bool, Gen.Int[1, 4])
            .Array[0, 60]
            .Sample(moves =>
            {
                var treatment = Build(steps);
                var source = new Dictionary<string, Row>();
                var target = new Dictionary<(TableName, string), Row>();
                var folds = new Dictionary<TableName, TableFold>();
                foreach (var (kind, key, branch, email, to) in moves)
                {
                    if (
                        Move(
                            source,
                            kind,
                            $"{key}",
                            Row($"{(kind == 3 ? to : key)}", branch == 5 ? null : $"{branch}", email ? "x" : "y", null, null)
                        )
                        is not { } change
                    )
                    {
                        continue;
                    }

                    foreach (var treated in Treated.By(treatment, change))
                    {
                        var name = treated.Table.Schema.Name;
                        if (!folds.TryGetValue(name, out var fold))
                        {
                            folds.Add(name, fold = new TableFold(treated.Table.Schema));
                        }

                        fold.Add(treated.Change);
                    }

                    if (folds.Values.Sum(fold => fold.Keys) > 5)
                    {
                        Apply(folds, target);
                    }
                }

                Apply(folds, target);
                var expected = source
                    .Values.SelectMany(row => Treated.Loaded(treatment, row))
                    .ToDictionary(made => (made.Table.Schema.Name, made.Change.After.TextAt(0)), made => made.Change.After);
                Assert.Equal(expected.OrderBy(pair => pair.Key.ToString()), target.OrderBy(pair => pair.Key.ToString()));
            });
    }

    [Fact]
    public void Names_follow_schemas_affixes_case_and_their_own()
    {
        var naming = new Naming(
            Into: "Warehouse",
            SchemaAsPrefix: true,
            Suffix: "_copy",
            Case: LetterCase.Lower,
            Tables: [new NameOfTable("a.B", "X.Y")]
        );
        Assert.Equal(
            "warehouse.circulation_loan_copy",
            naming.NameFor(new TableName("circulation", "Loan"), new TableName("circulation", "Loan")).ToString()
        );
        Assert.Equal("X.Y", naming.NameFor(new TableName("a", "B"), new TableName("a", "B")).ToString());
    }

    private static RowChange? Move(Dictionary<string, Row> rows, int kind, string key, Row row)
    {
        var exists = rows.TryGetValue(key, out var before);
        var to = row.TextAt(0);
        switch (kind)
        {
            case 0 when !exists:
                rows[key] = row;
                return new RowChange(ChangeKind.Insert, 0, default, row);
            case 1 or 3 when exists && (to == key || !rows.ContainsKey(to)):
                rows.Remove(key);
                rows[to] = row;
                return new RowChange(ChangeKind.Update, 0, before, row);
            case 2 when exists:
                rows.Remove(key);
                return new RowChange(ChangeKind.Delete, 0, before, default);
            default:
                return null;
        }
    }

    private static void Apply(Dictionary<TableName, TableFold> folds, Dictionary<(TableName, string), Row> target)
    {
        foreach (var (name, fold) in folds)
        {
            var rows = fold.Finish().Rows;
            foreach (var row in rows.Where(row => row.Kind == ChangeKind.Delete))
            {
                Assert.True(target.Remove((name, row.Before.TextAt(0))));
            }

            foreach (var row in rows.Where(row => row.Kind != ChangeKind.Delete))
            {
                Assert.Equal(row.Kind == ChangeKind.Update, target.ContainsKey((name, row.After.TextAt(0))));
                target[(name, row.After.TextAt(0))] = row.After;
            }
        }

        folds.Clear();
    }

    private static CrossingDefinition Of(params TreatmentStep[] steps) => new("c", "copy", "a", "b", new TableRules([]), Treatment: steps);

    private static TableTreatment Build(params TreatmentStep[] steps) => Build(Of(steps));

    private static IReadOnlyList<TreatmentProblem> Refused(params TreatmentStep[] steps) =>
        TreatmentBuilder.Build(Of(steps), Source, name => name, TestTypes.Text, new NamedKeys()).Problems;

    private static TableTreatment Build(CrossingDefinition definition, IMaskKeys? keys = null, TableSchema? source = null)
    {
        var (treatment, problems) = TreatmentBuilder.Build(
            definition,
            source ?? Source,
            name => name,
            TestTypes.Text,
            keys ?? new NamedKeys()
        );
        Assert.Empty(problems);
        return treatment!;
    }

    private static Row KeyOnly(string key) => TextRow.Of(key, TextRow.Absent, TextRow.Absent, TextRow.Absent, TextRow.Absent);

    private static Row Row(params string?[] values) => TextRow.Of(values);

    private sealed class OneKey(byte[] key) : IMaskKeys
    {
        public byte[] Of(string name) => key;
    }

    private sealed class NamedKeys : IMaskKeys
    {
        public byte[] Of(string name) => System.Security.Cryptography.SHA256.HashData(System.Text.Encoding.UTF8.GetBytes(name));
    }

    /// <summary>An engine of a few types, for these tests.</summary>
    private sealed class TestTypes : IEngineTypes
    {
        public static TestTypes Text { get; } = new();

        public IRowEncoding Encoding => TextEncoding.Instance;

        public int? LongestName => 63;

        public string Spelled(string type) => type;

        public ColumnMeaning MeaningOf(Column column) =>
            column.Type switch
            {
                "integer" => new ColumnMeaning(ExpressionType.Integer),
                "date" => new ColumnMeaning(ExpressionType.Date),
                _ => new ColumnMeaning(ExpressionType.Text, MayBeAbsent: true),
            };

        public RepeatedValue? RepeatOf(Column column) => null;

        public string TypeFor(ExpressionType type) => type.Word();

        public LogicalType TypeOf(Column column) => LogicalType.Of(MeaningOf(column));

        public string Declare(LogicalType type) => TypeFor(ColumnMeaning.Of(type).Type);

        public TypeChange ChangeOf(string from, string to) =>
            to == "varchar(2)" ? new TypeChange(TypeOutcome.MayChange, "longer texts are cut") : new TypeChange(TypeOutcome.Keeps, "");
    }
}
