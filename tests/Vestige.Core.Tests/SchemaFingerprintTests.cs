using Vestige.Core.Schemas;
using Xunit;

namespace Vestige.Core.Tests;

public sealed class SchemaFingerprintTests
{
    private static readonly TableSchema Plain = new(
        new TableName("s", "t"),
        [new Column("id", "int", KeyOrdinal: 1), new Column("a", "text"), new Column("b", "text")],
        [],
        []
    );

    [Fact]
    public void Another_key_of_the_same_columns_is_another_form()
    {
        var other = Plain with { Columns = [new Column("id", "int"), new Column("a", "text", KeyOrdinal: 1), new Column("b", "text")] };
        Assert.False(SchemaFingerprint.IsOf(SchemaFingerprint.Of(Plain), other));
        Assert.NotEqual(SchemaFingerprint.Of(Plain), SchemaFingerprint.Of(other));
    }

    [Fact]
    public void Two_columns_that_swapped_their_names_are_told_apart_by_the_tables_incarnation()
    {
        var loaded = SchemaFingerprint.Of(Plain with { Incarnation = "7.x", Stamp = "1" });
        Assert.True(SchemaFingerprint.IsOf(loaded, Plain with { Incarnation = "7.x", Stamp = "2" }));
        Assert.False(SchemaFingerprint.IsOf(loaded, Plain with { Incarnation = "7.y", Stamp = "1" }));
        Assert.False(SchemaFingerprint.IsOf(loaded, Plain));
    }

    [Fact]
    public void A_table_is_told_from_one_that_has_its_name_and_columns_of_the_same_numbers()
    {
        var table = Plain with { Incarnation = "7.x" };
        Assert.True(table.IsOfSameTable(Plain with { Incarnation = "7.y.less-1" }));
        Assert.False(table.IsOfSameTable(Plain with { Incarnation = "8.x" }));
        Assert.False(table.IsOfSameTable(Plain));
        Assert.True(Plain.IsOfSameTable(Plain));
    }

    [Fact]
    public void A_change_that_came_before_the_load_is_held_by_it_and_one_of_values_only_under_the_same_stamp()
    {
        var after = Plain with { Incarnation = "7.x", Stamp = "2" };
        Assert.True(SchemaFingerprint.Holds(SchemaFingerprint.Of(after), after, values: true));
        Assert.True(SchemaFingerprint.Holds(SchemaFingerprint.Of(after with { Stamp = "1" }), after, values: false));
        Assert.False(SchemaFingerprint.Holds(SchemaFingerprint.Of(after with { Stamp = "1" }), after, values: true));
        Assert.False(SchemaFingerprint.Holds(SchemaFingerprint.Of(after with { Incarnation = "7.y" }), after, values: false));
    }

    /// <summary>What was loaded by an earlier version continues under its own print, and any change told after it counts.</summary>
    [Fact]
    public void A_print_of_columns_alone_still_says_what_it_said()
    {
        var loaded = SchemaFingerprint.Of(Plain);
        Assert.DoesNotContain(':', loaded);
        Assert.True(SchemaFingerprint.IsOf(loaded, Plain with { Incarnation = "7.x", Stamp = "1" }));
        Assert.False(SchemaFingerprint.IsOf(loaded, Plain with { Columns = [.. Plain.Columns, new Column("c", "text")] }));
        Assert.False(SchemaFingerprint.Holds(loaded, Plain with { Incarnation = "7.x", Stamp = "1" }, values: false));
        Assert.True(SchemaFingerprint.Holds(loaded, Plain, values: false));
    }
}
