using Vestige.Core.Schemas;
using Xunit;

namespace Vestige.Core.Tests;

public sealed class FormPrintTests
{
    private static readonly TableSchema Plain = new(new TableName("s", "t"), [new Column("id", "int", KeyOrdinal: 1), new Column("a", "text"), new Column("b", "text")], [], []);

    [Fact]
    public void Another_key_of_the_same_columns_is_another_form()
    {
        var other = Plain with { Columns = [new Column("id", "int"), new Column("a", "text", KeyOrdinal: 1), new Column("b", "text")] };
        Assert.False(FormPrint.IsOf(FormPrint.Of(Plain), other));
        Assert.NotEqual(FormPrint.Of(Plain), FormPrint.Of(other));
    }

    [Fact]
    public void Two_columns_that_swapped_their_names_are_told_apart_by_the_tables_incarnation()
    {
        var loaded = FormPrint.Of(Plain with { Incarnation = "7.x", Stamp = "1" });
        Assert.True(FormPrint.IsOf(loaded, Plain with { Incarnation = "7.x", Stamp = "2" }));
        Assert.False(FormPrint.IsOf(loaded, Plain with { Incarnation = "7.y", Stamp = "1" }));
        Assert.False(FormPrint.IsOf(loaded, Plain));
    }

    [Fact]
    public void A_change_that_came_before_the_load_is_held_by_it_and_one_of_values_only_under_the_same_stamp()
    {
        var after = Plain with { Incarnation = "7.x", Stamp = "2" };
        Assert.True(FormPrint.Holds(FormPrint.Of(after), after, values: true));
        Assert.True(FormPrint.Holds(FormPrint.Of(after with { Stamp = "1" }), after, values: false));
        Assert.False(FormPrint.Holds(FormPrint.Of(after with { Stamp = "1" }), after, values: true));
        Assert.False(FormPrint.Holds(FormPrint.Of(after with { Incarnation = "7.y" }), after, values: false));
    }

    /// <summary>What was loaded by an earlier version goes on under its own print, and any change told after it counts.</summary>
    [Fact]
    public void A_print_of_columns_alone_still_says_what_it_said()
    {
        var loaded = FormPrint.Of(Plain);
        Assert.DoesNotContain(':', loaded);
        Assert.True(FormPrint.IsOf(loaded, Plain with { Incarnation = "7.x", Stamp = "1" }));
        Assert.False(FormPrint.IsOf(loaded, Plain with { Columns = [.. Plain.Columns, new Column("c", "text")] }));
        Assert.False(FormPrint.Holds(loaded, Plain with { Incarnation = "7.x", Stamp = "1" }, values: false));
        Assert.True(FormPrint.Holds(loaded, Plain, values: false));
    }
}
