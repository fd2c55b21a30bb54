using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Core.Treatments;
using Vestige.Engine.Ports;
using Vestige.Web.Definitions;
using Vestige.Web.Pages.Crossings;
using Xunit;

namespace Vestige.Web.Tests;

/// <summary>What the New crossing page makes of rules that are typed and tables that are ticked.</summary>
public class NewCrossingFormTests
{
    private static readonly IReadOnlyList<TableDescription> There =
    [
        Table("s.a"),
        Table("s.b"),
        Table("s.b_tmp"),
        Table("s.view", "it is a view"),
        Table("t.c"),
    ];

    [Fact]
    public void Rules_are_read_a_line_each_and_written_as_they_were()
    {
        var rules = RulesText.Read(" s.*\n\nnot *_tmp \r\nNOT s.x\n");
        Assert.Equal([new TableRule(Take: "s.*"), new TableRule(Leave: "*_tmp"), new TableRule(Leave: "s.x")], rules);
        Assert.Equal("s.*\nnot *_tmp\nnot s.x", RulesText.Write(rules));
    }

    [Fact]
    public void A_table_without_a_key_is_taken_by_its_inserts_where_it_stands_and_left_again()
    {
        NewCrossingForm form = new()
        {
            InsertOnly = "t.*",
            InsertsShown = ["s.a", "s.b"],
            InsertsOf = ["s.a"],
        };
        Assert.True(form.TakeInserts());
        Assert.Equal("t.*, s.a", form.InsertOnly);
        Assert.Contains(new TableRule(Take: "s.a"), form.ByHand());

        form = new NewCrossingForm
        {
            InsertOnly = form.InsertOnly,
            Hand = "s.a",
            InsertsShown = ["s.a", "s.b"],
        };
        Assert.True(form.TakeInserts());
        Assert.Equal("t.*", form.InsertOnly);
        Assert.Empty(form.ByHand());
        Assert.False(form.TakeInserts());
    }

    [Theory]
    [InlineData(false, SchemaChangeAction.Hold, "")]
    [InlineData(true, SchemaChangeAction.Hold, "* Reload")]
    [InlineData(false, SchemaChangeAction.LeaveOut, "* LeaveOut ColumnDropped")]
    [InlineData(true, SchemaChangeAction.Carry, "* Reload; * Carry ColumnDropped")]
    [InlineData(false, SchemaChangeAction.Stop, "")]
    public void What_becomes_of_changed_tables_is_said_by_rules(bool reloads, SchemaChangeAction dropped, string expected)
    {
        NewCrossingForm form = new() { Reloads = reloads, Dropped = dropped };
        var rules = form.Definition([], TreatmentText.Read("")).SchemaChanges ?? [];
        var said = rules.Select(rule => $"{rule.Tables} {rule.As} {string.Join(',', rule.Kinds ?? [])}".Trim());
        Assert.Equal(expected, string.Join("; ", said));
    }

    /// <summary>What is carried anyway needs no rule; kinds with one action share one.</summary>
    [Fact]
    public void Other_changes_are_said_by_kind()
    {
        NewCrossingForm form = new()
        {
            Dropped = SchemaChangeAction.LeaveOut,
            Changes = new()
            {
                [SchemaChangeKind.TypeChanged] = SchemaChangeAction.Hold,
                [SchemaChangeKind.ColumnAdded] = SchemaChangeAction.Hold,
                [SchemaChangeKind.LabelAdded] = SchemaChangeAction.Stop,
                [SchemaChangeKind.ColumnRenamed] = SchemaChangeAction.Carry,
                [SchemaChangeKind.PartDetached] = SchemaChangeAction.Carry,
                [SchemaChangeKind.ConstraintAdded] = SchemaChangeAction.LeaveOut,
            },
        };
        var said = form.Definition([], TreatmentText.Read("")).SchemaChanges!.Select(rule =>
            $"{rule.As} {string.Join(',', rule.Kinds ?? [])}"
        );
        const string Rules = "LeaveOut ColumnDropped; Carry PartDetached; Hold ColumnAdded,TypeChanged; Stop LabelAdded";
        Assert.Equal(Rules, string.Join("; ", said));
    }

    /// <summary>Each kind that can be chosen has what a rule may say of it; what is first is done without a rule.</summary>
    [Fact]
    public void What_can_be_chosen_is_what_a_definition_can_say()
    {
        foreach (var choice in ChangeChoice.All)
        {
            var change = new SchemaChange(choice.Kind, "");
            var plain = new NewCrossingForm().Definition([], TreatmentText.Read(""));
            Assert.Equal(plain.OnSchemaChange(new("public", "t"), change), choice.Default);
            foreach (var (action, _) in choice.Actions)
            {
                NewCrossingForm form = new()
                {
                    Name = "x",
                    Source = "a",
                    Target = "b",
                    Rules = "s.*",
                    Changes = new() { [choice.Kind] = action },
                };
                Assert.DoesNotContain(
                    DefinitionRules.Check(form.Definition([], TreatmentText.Read(""))),
                    problem => problem.Field.StartsWith("schemaChanges", StringComparison.Ordinal)
                );
            }
        }
    }

    [Fact]
    public void What_is_ticked_against_the_rules_becomes_a_rule_of_its_own()
    {
        NewCrossingForm form = new()
        {
            Rules = "s.*\nnot *_tmp",
            Was = "s.*\nnot *_tmp",
            Shown = ["s.a", "s.b", "s.b_tmp"],
            Tables = ["s.a", "s.b_tmp"],
        };
        Assert.Equal([new TableRule(Leave: "s.b"), new TableRule(Take: "s.b_tmp")], form.ByHand());
        Assert.Equal(["s.a", "s.b_tmp", "s.view"], Taken(form));
    }

    [Fact]
    public void A_rule_typed_later_does_not_undo_what_was_ticked_and_a_tick_that_agrees_with_it_goes()
    {
        NewCrossingForm form = new()
        {
            Rules = "s.*",
            Was = "",
            Hand = "s.a\nnot s.b",
            Shown = ["s.a", "s.b"],
            Tables = ["s.a"],
        };
        Assert.DoesNotContain("s.b", Taken(form));
        form.Tables = ["s.a", "s.b"];
        Assert.DoesNotContain(form.ByHand(), rule => rule.Pattern == "s.b");
        Assert.Contains("s.b", Taken(form));
    }

    [Fact]
    public void With_everything_ticked_and_nothing_typed_a_rule_a_schema_says_it_shorter()
    {
        NewCrossingForm form = new() { Shown = ["s.a", "s.b", "s.b_tmp", "t.c"], Tables = ["s.a", "s.b", "s.b_tmp", "t.c"] };
        Assert.Equal("s.*\nt.*\nnot s.view", RulesText.Write(form.Definition(There, TreatmentText.Read(null)).Tables.Rules));
    }

    [Fact]
    public void A_table_that_only_its_inserts_let_cross_crosses_when_that_is_wanted()
    {
        var keyless = new TableDescription(Form("s.log"), 1, null, "it has no key", InsertsCross: true);
        Assert.False(new NewCrossingForm().Crosses(keyless));
        Assert.True(new NewCrossingForm { InsertOnly = "s.x, s.lo*" }.Crosses(keyless));
    }

    [Fact]
    public void Steps_are_read_with_the_place_of_what_is_wrong_and_written_as_they_were()
    {
        const string Text = "- tables: s.a\n  keep: id > 0\n- tables: s.*\n  combine:\n    into: d.all\n    by: schema\n";
        var read = TreatmentText.Read(Text);
        Assert.Empty(read.Problems);
        Assert.Equal(new CombinedTable("d.all", By: OriginName.Schema), read.Steps[1].Combine);
        Assert.Equal(Text, TreatmentText.Write(read.Steps));
        Assert.Equal(
            new DefinitionLocation(4, 3),
            Assert.Single(TreatmentText.Read(Text.Replace("combine", "combined", StringComparison.Ordinal)).Problems).Place
        );
        Assert.Equal(new DefinitionLocation(2, 12), read.Placed(new TreatmentProblem("treatment[0].keep", "x", "y", 3, 1)).Place);
    }

    [Fact]
    public void Statements_of_ones_own_are_read_and_written_as_blocks()
    {
        const string Text =
            "- table: d.a\n  run: |-\n    CREATE TABLE \"a\" (\n      \"id\" INTEGER PRIMARY KEY\n    )\n- table: d.b\n  run: CREATE "
            + "TABLE \"b\" (x)\n";
        var read = StructureText.Read(Text);
        Assert.Empty(read.Problems);
        Assert.Equal("CREATE TABLE \"a\" (\n  \"id\" INTEGER PRIMARY KEY\n)", read.Statements[0].Run);
        Assert.Equal(Text, StructureText.Write(read.Statements));
        Assert.Equal(2, Assert.Single(StructureText.Read("- table: d.a\n  runs: x\n").Problems).Place?.Line);
        NewCrossingForm form = new() { Structure = Text };
        Assert.Equal(2, form.Definition(There, TreatmentText.Read(null)).Structure!.Count);
    }

    [Theory]
    [InlineData("", null, null)]
    [InlineData(" 0/16B3748 ", "0/16B3748", null)]
    [InlineData("3615089", "3615089", null)]
    [InlineData("2026-11-25 13:00:00", null, "2026-11-25T13:00:00+00:00")]
    [InlineData("2026-11-25 13:00:00 UTC", null, "2026-11-25T13:00:00+00:00")]
    [InlineData("2026-11-25T13:00:00.5+01:00", null, "2026-11-25T13:00:00.5+01:00")]
    [InlineData("at noon: today", "at noon: today", null)]
    public void A_place_is_a_time_where_it_reads_as_one(string typed, string? position, string? time)
    {
        var place = PlaceText.Read(typed);
        Assert.Equal(position, place?.Position);
        Assert.Equal(time is null ? null : DateTimeOffset.Parse(time, System.Globalization.CultureInfo.InvariantCulture), place?.Time);
    }

    private static IEnumerable<string> Taken(NewCrossingForm form)
    {
        var rules = form.Definition(There, TreatmentText.Read(null)).Tables;
        return There.Select(table => table.Schema.Name).Where(rules.Takes).Select(name => name.ToString());
    }

    private static TableSchema Form(string name) => new(TableName.Parse(name), [new Column("id", "integer", KeyOrdinal: 1)], [], []);

    private static TableDescription Table(string name, string? reason = null) => new(Form(name), 1, null, reason);
}
