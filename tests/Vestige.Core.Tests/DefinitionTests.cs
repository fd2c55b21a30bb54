using CsCheck;
using Vestige.Core.Applying;
using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Core.Text;
using Xunit;

namespace Vestige.Core.Tests;

public class DefinitionTests
{
    [Theory]
    [InlineData("circulation.*", "circulation.loan", true)]
    [InlineData("circulation.*", "catalogue.title", false)]
    [InlineData("*_tmp", "s.a_tmp", true)]
    [InlineData("*_tmp", "s.a_tmp2", false)]
    [InlineData("s.a*b*c", "s.axxbxxc", true)]
    [InlineData("s.a*b*c", "s.acb", false)]
    [InlineData("s.t", "s.T", false)]
    [InlineData("*", "s.t", true)]
    public void A_pattern_matches_the_whole_name(string pattern, string name, bool matches) =>
        Assert.Equal(matches, new TableRule(Take: pattern).Matches(name));

    [Fact]
    public void The_last_matching_rule_decides()
    {
        var rules = new TableRules([new TableRule(Take: "s.*"), new TableRule(Leave: "s.t*"), new TableRule(Take: "s.tx")]);
        Assert.True(rules.Takes(new TableName("s", "a")));
        Assert.False(rules.Takes(new TableName("s", "t1")));
        Assert.True(rules.Takes(new TableName("s", "tx")));
        Assert.False(rules.Takes(new TableName("other", "a")));
    }

    /// <summary>Against trying all rules from the last to the first, which is what the rules say.</summary>
    [Fact]
    public void Many_rules_decide_as_they_do_one_by_one()
    {
        var pattern = Gen.Char["ab*."].Array[1, 4].Select(letters => new string(letters));
        var rule = Gen.Select(pattern, Gen.Bool, (text, takes) => takes ? new TableRule(Take: text) : new TableRule(Leave: text));
        var name = Gen.Select(
            Gen.String[Gen.Char["ab"], 1, 2],
            Gen.String[Gen.Char["ab"], 1, 1],
            (schema, table) => new TableName(schema, table)
        );
        Gen.Select(rule.Array[0, 30], name)
            .Sample(
                (rules, table) => new TableRules(rules).DecidingRule(table) == rules.LastOrDefault(one => one.Matches(table.ToString()))
            );
    }

    [Fact]
    public void The_last_matching_rule_decides_how_a_table_is_applied()
    {
        var definition = Definition() with { Apply = [new ApplyRule("s.*", ApplyMode.InsertOnly), new ApplyRule("s.t", ApplyMode.Upsert)] };
        Assert.Equal(ApplyMode.InsertOnly, definition.AppliedAs(new TableName("s", "a")));
        Assert.Equal(ApplyMode.Upsert, definition.AppliedAs(new TableName("s", "t")));
        Assert.Equal(ApplyMode.Upsert, definition.AppliedAs(new TableName("other", "t")));
        Assert.Contains(DefinitionRules.Check(definition with { Apply = [new ApplyRule(" ", ApplyMode.InsertOnly)] }), problem =>
            problem.Field == "apply[0].tables"
        );
    }

    [Fact]
    public void The_last_matching_rule_decides_what_becomes_of_a_table_whose_schema_changes()
    {
        var definition = Definition() with
        {
            SchemaChanges = [new SchemaChangeRule("s.*", SchemaChangeAction.Reload), new SchemaChangeRule("s.t", SchemaChangeAction.Hold)],
        };
        SchemaChangeAction Of(CrossingDefinition rules, string schema, string table, SchemaChangeKind kind, string? after = null) =>
            rules.OnSchemaChange(new TableName(schema, table), new SchemaChange(kind, "c", null, after));
        Assert.True(definition.ReloadsOnSchemaChange(new TableName("s", "a")));
        Assert.False(definition.ReloadsOnSchemaChange(new TableName("s", "t")));
        Assert.False(definition.ReloadsOnSchemaChange(new TableName("other", "t")));
        Assert.Equal(SchemaChangeAction.Carry, Of(definition, "s", "a", SchemaChangeKind.ColumnAdded));
        Assert.Equal(SchemaChangeAction.Hold, Of(definition, "s", "t", SchemaChangeKind.ColumnAdded));
        Assert.Equal(SchemaChangeAction.LeaveOut, Of(definition, "s", "t", SchemaChangeKind.DefaultChanged));
        Assert.Equal(SchemaChangeAction.Carry, Of(definition, "other", "t", SchemaChangeKind.ColumnRenamed));
        Assert.Equal(SchemaChangeAction.Hold, Of(definition, "other", "t", SchemaChangeKind.ColumnDropped));
        Assert.Equal(SchemaChangeAction.Carry, Of(definition, "other", "t", SchemaChangeKind.NullabilityChanged, "NULL"));
        Assert.Equal(SchemaChangeAction.LeaveOut, Of(definition, "other", "t", SchemaChangeKind.NullabilityChanged, "NOT NULL"));
        var drops = definition with
        {
            SchemaChanges =
            [
                .. definition.SchemaChanges,
                new SchemaChangeRule("s.*", SchemaChangeAction.Carry, [SchemaChangeKind.ColumnDropped]),
            ],
        };
        Assert.Equal(SchemaChangeAction.Carry, Of(drops, "s", "t", SchemaChangeKind.ColumnDropped));
        Assert.Equal(SchemaChangeAction.Hold, Of(drops, "s", "t", SchemaChangeKind.ColumnAdded));
        Assert.Equal(SchemaChangeAction.Hold, Of(drops, "other", "t", SchemaChangeKind.ColumnDropped));
        Assert.Empty(DefinitionRules.Check(definition));
        var once = definition with { Start = new StartOptions(Kind: StartKind.Rows) };
        Assert.Contains(DefinitionRules.Check(once), problem => problem.Field == "schemaChanges[0].as");
        var empty = definition with { SchemaChanges = [new SchemaChangeRule(" ", SchemaChangeAction.Hold)] };
        Assert.Contains(DefinitionRules.Check(empty), problem => problem.Field == "schemaChanges[0].tables");
        Assert.Contains(DefinitionRules.Check(definition with { SchemaChanges = [null!] }), problem => problem.Field == "schemaChanges[0]");
    }

    [Theory]
    [InlineData(SchemaChangeAction.Carry, SchemaChangeKind.TableDropped)]
    [InlineData(SchemaChangeAction.Reload, SchemaChangeKind.ColumnAdded)]
    [InlineData(SchemaChangeAction.LeaveOut, SchemaChangeKind.TypeChanged)]
    [InlineData(SchemaChangeAction.LeaveOut, null)]
    public void A_rule_for_schema_changes_names_what_it_can_be_for(SchemaChangeAction action, SchemaChangeKind? kind)
    {
        var rule = new SchemaChangeRule("*", action, kind is { } one ? [one] : null);
        var problem = Assert.Single(DefinitionRules.Check(Definition() with { SchemaChanges = [rule] }));
        Assert.Equal("schemaChanges[0].kinds", problem.Field);
    }

    [Fact]
    public void An_entry_that_is_null_is_named_by_its_place()
    {
        Assert.Equal(
            "tables.rules[1]",
            Assert.Single(DefinitionRules.Check(Definition() with { Tables = new TableRules([new TableRule(Take: "*"), null!]) })).Field
        );
        Assert.Equal(
            "start.tables[0]",
            Assert.Single(DefinitionRules.Check(Definition() with { Start = new StartOptions(Tables: [null!]) })).Field
        );
        Assert.Equal("treatment[0]", Assert.Single(DefinitionRules.Check(Definition() with { Treatment = [null!] })).Field);
        Assert.Contains(DefinitionRules.Check(Definition() with { Treatment = [new("s.t", LeaveOut: ["a", null!])] }), problem =>
            problem.Field == "treatment[0].leaveOut[1]"
        );
    }

    [Fact]
    public void Tables_made_later_cross_only_where_rows_and_changes_do()
    {
        var later = Definition() with { Tables = Definition().Tables with { Future = true } };
        Assert.Empty(DefinitionRules.Check(later));
        Assert.Equal(
            "tables.future",
            Assert.Single(DefinitionRules.Check(later with { Start = new StartOptions(Kind: StartKind.Rows) })).Field
        );
        Assert.Equal(
            "tables.future",
            Assert.Single(DefinitionRules.Check(later with { Start = new StartOptions(Kind: StartKind.Changes) })).Field
        );
    }

    [Fact]
    public void A_copy_of_a_table_with_other_columns_has_its_own_key()
    {
        var table = new TableSchema(new TableName("s", "t"), [new Column("note", "text"), new Column("id", "int", KeyOrdinal: 1)], [], []);
        Assert.Equal([1], table.KeyOrdinals);
        Assert.Equal([0], (table with { Columns = [table.Columns[1]] }).KeyOrdinals);
    }

    [Theory]
    [InlineData("Loans", "name")]
    [InlineData("", "name")]
    [InlineData("-x", "name")]
    public void A_bad_name_is_named(string name, string field) =>
        Assert.Contains(DefinitionRules.Check(Definition() with { Name = name }), problem => problem.Field == field);

    [Fact]
    public void The_same_source_and_target_are_refused() =>
        Assert.Contains(DefinitionRules.Check(Definition() with { Target = "a" }), problem => problem.Field == "target");

    [Fact]
    public void A_rule_must_take_or_leave_and_something_must_be_taken()
    {
        Assert.Contains(DefinitionRules.Check(Definition() with { Tables = new TableRules([new TableRule()]) }), problem =>
            problem.Field == "tables.rules[0]"
        );
        Assert.Contains(DefinitionRules.Check(Definition() with { Tables = new TableRules([new TableRule(Leave: "x")]) }), problem =>
            problem.Field == "tables.rules"
        );
        Assert.Empty(DefinitionRules.Check(Definition()));
    }

    [Fact]
    public void Parents_come_before_children_and_circles_are_told()
    {
        TableSchema Table(string name, params string[] parents) =>
            new(
                new TableName("s", name),
                [new Column("id", "INTEGER", KeyOrdinal: 1)],
                [],
                [.. parents.Select(parent => new ForeignKey(["x"], new TableName("s", parent), ["id"]))]
            );
        var order = TableOrder.Of([
            Table("loan", "copy", "patron"),
            Table("copy", "title"),
            Table("patron"),
            Table("title"),
            Table("ring1", "ring2"),
            Table("ring2", "ring1"),
            Table("self", "self"),
        ]);
        var place = order.ParentsFirst.Select((name, i) => (name.Name, i)).ToDictionary(pair => pair.Name, pair => pair.i);
        Assert.True(place["title"] < place["copy"] && place["copy"] < place["loan"] && place["patron"] < place["loan"]);
        Assert.Equal(["ring1", "ring2", "self"], order.InCycles.Select(name => name.Name).Order());
        Assert.Equal(7, order.ParentsFirst.Count);
    }

    [Theory]
    [InlineData("08:00", "18:00", null, "UTC", "2026-03-02T12:00:00Z", "2026-03-02T18:00:00Z")]
    [InlineData("08:00", "18:00", null, "UTC", "2026-03-02T18:00:00Z", null)]
    [InlineData("22:00", "06:00", null, "UTC", "2026-03-02T23:00:00Z", "2026-03-03T06:00:00Z")]
    [InlineData("22:00", "06:00", DayOfWeek.Monday, "UTC", "2026-03-03T05:00:00Z", "2026-03-03T06:00:00Z")]
    [InlineData("22:00", "06:00", DayOfWeek.Monday, "UTC", "2026-03-02T05:00:00Z", null)]
    [InlineData("08:00", "18:00", null, "Europe/Vienna", "2026-07-02T06:30:00Z", "2026-07-02T16:00:00Z")]
    public void Windows_of_rest_end_when_they_say(string from, string to, DayOfWeek? day, string zone, string moment, string? end) =>
        Assert.Equal(
            end is null ? null : DateTimeOffset.Parse(end),
            new RestWindow(TimeOnly.Parse(from), TimeOnly.Parse(to), day is { } one ? [one] : null, zone).EndAt(
                DateTimeOffset.Parse(moment)
            )
        );

    [Theory]
    [InlineData(null, null, "quarantine")]
    [InlineData(0, null, "quarantine.rows")]
    [InlineData(null, 0.0, "quarantine.percent")]
    [InlineData(null, 100.1, "quarantine.percent")]
    [InlineData(1, 100.0, null)]
    public void A_rule_for_refused_rows_has_a_limit(int? rows, double? percent, string? field) =>
        Assert.Equal(
            field,
            DefinitionRules.Check(Definition() with { Quarantine = new QuarantineRule(rows, (decimal?)percent) }).SingleOrDefault()?.Field
        );

    [Theory]
    [InlineData(10, null, 10, 0, true)]
    [InlineData(10, null, 11, 1_000_000, false)]
    [InlineData(null, 1.0, 1, 0, true)]
    [InlineData(null, 1.0, 2, 199, false)]
    [InlineData(null, 1.0, 2, 200, true)]
    [InlineData(3, 1.0, 4, 1000, false)]
    public void Rows_wait_as_far_as_the_rule_allows(int? rows, double? percent, long waiting, long changes, bool allowed) =>
        Assert.Equal(allowed, new QuarantineRule(rows, (decimal?)percent).Allows(waiting, changes));

    [Theory]
    [InlineData(0.3, "0.3 s")]
    [InlineData(48, "48 s")]
    [InlineData(372, "6.2 min")]
    [InlineData(7800, "2 h 10 min")]
    [InlineData(0.004, "4 ms")]
    [InlineData(0, "0 s")]
    [InlineData(59.7, "1.0 min")]
    [InlineData(273600, "3 d 4 h")]
    public void Durations_are_short(double seconds, string text) => Assert.Equal(text, Figures.Duration(TimeSpan.FromSeconds(seconds)));

    private static CrossingDefinition Definition() =>
        new("loans-to-b", CrossingDefinition.Copy, "a", "b", new TableRules([new TableRule(Take: "a.*")]));
}
