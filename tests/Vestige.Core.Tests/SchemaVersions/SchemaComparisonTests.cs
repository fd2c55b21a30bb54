using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Xunit;

namespace Vestige.Core.Tests.SchemaVersions;

/// <summary>What is different between two versions of a table.</summary>
public sealed class SchemaComparisonTests
{
    private static readonly TableName Name = new("shop", "book");

    [Fact]
    public void Nothing_differs_between_a_table_and_itself() => Assert.Empty(SchemaComparison.Between(Books(), Books()));

    [Fact]
    public void A_renamed_column_keeps_its_number()
    {
        var before = Table(new Column("id", "integer", KeyOrdinal: 1, Id: 1), new Column("title", "text", Id: 2));
        var after = Table(new Column("id", "integer", KeyOrdinal: 1, Id: 1), new Column("name", "text", Id: 2));
        Assert.Equal(["Column title renamed to name"], Words(before, after));
    }

    [Fact]
    public void Without_numbers_a_renamed_column_is_one_dropped_and_one_added()
    {
        var before = Table(new Column("id", "integer", KeyOrdinal: 1), new Column("title", "text"));
        var after = Table(new Column("id", "integer", KeyOrdinal: 1), new Column("name", "text"));
        Assert.Equal(["Column name added (text)", "Column title dropped (was text)"], Words(before, after));
    }

    [Fact]
    public void Columns_that_swap_their_names_are_two_renames()
    {
        var before = Table(new Column("a", "text", Id: 1), new Column("b", "text", Id: 2));
        var after = Table(new Column("b", "text", Id: 1), new Column("a", "text", Id: 2));
        Assert.Equal(["Column a renamed to b", "Column b renamed to a"], Words(before, after));
    }

    [Fact]
    public void A_column_that_was_dropped_and_added_again_is_another()
    {
        var before = Table(new Column("id", "integer", KeyOrdinal: 1, Id: 1), new Column("a", "text", Id: 2));
        var after = Table(new Column("id", "integer", KeyOrdinal: 1, Id: 1), new Column("a", "text", Id: 3));
        Assert.Equal(["Column a added (text)", "Column a dropped (was text)"], Words(before, after));
    }

    [Fact]
    public void Each_thing_about_a_column_is_told()
    {
        var before = Table(new Column("price", "numeric(6,2)", Default: "0"), new Column("name", "text"));
        var after = Table(new Column("price", "numeric(8,2)", Nullable: false, Default: "1"), new Column("name", "text", Collation: "C"));
        Assert.Equal(
            [
                "Type of column price changed from numeric(6,2) to numeric(8,2)",
                "Column price changed from NULL to NOT NULL",
                "Default of column price changed from 0 to 1",
                "Collation of column name changed from the type's own to C",
            ],
            Words(before, after)
        );
    }

    [Fact]
    public void A_default_that_comes_or_goes_is_told()
    {
        var (without, with) = (Table(new Column("a", "text")), Table(new Column("a", "text", Default: "'x'")));
        Assert.Equal(["Default of column a set to 'x'"], Words(without, with));
        Assert.Equal(["Default of column a dropped (was 'x')"], Words(with, without));
    }

    [Fact]
    public void A_key_is_the_same_when_its_column_is_renamed_and_another_when_its_columns_are_others()
    {
        var before = Table(new Column("id", "integer", KeyOrdinal: 1, Id: 1), new Column("no", "integer", Id: 2));
        Assert.Equal(
            ["Column id renamed to book_id"],
            Words(before, Table(new Column("book_id", "integer", KeyOrdinal: 1, Id: 1), new Column("no", "integer", Id: 2)))
        );
        var other = Table(new Column("id", "integer", KeyOrdinal: 1, Id: 1), new Column("no", "integer", KeyOrdinal: 2, Id: 2));
        Assert.Equal(["Key changed from (id) to (id, no)"], Words(before, other));
        var none = Table(new Column("id", "integer", Id: 1), new Column("no", "integer", Id: 2));
        Assert.Equal(["Key dropped (was id)"], Words(before, none));
    }

    [Fact]
    public void Columns_in_another_order_are_told_once()
    {
        var before = Table(new Column("a", "text"), new Column("b", "text"), new Column("c", "text"));
        var after = Table(new Column("c", "text"), new Column("a", "text"), new Column("d", "text"), new Column("b", "text"));
        Assert.Equal(["Column d added (text)", "Columns reordered (c, a, b)"], Words(before, after));
    }

    [Fact]
    public void Keys_references_and_objects_come_and_go()
    {
        var before = Books() with
        {
            UniqueKeys = [new UniqueKey(["isbn"])],
            Objects = [new SchemaObject(SchemaStage.Index, "by_title", "CREATE INDEX ...") { Text = "(title)" }],
        };
        var after = Books() with
        {
            UniqueKeys = [new UniqueKey(["isbn", "edition"])],
            ForeignKeys = [new ForeignKey(["author"], new TableName("shop", "author"), ["id"])],
            Objects = [new SchemaObject(SchemaStage.Index, "by_title", "CREATE INDEX ...") { Text = "(lower(title))" }],
        };
        Assert.Equal(
            [
                "Unique key added (isbn, edition)",
                "Unique key dropped (isbn)",
                "Reference added (author to shop.author (id))",
                "by_title changed",
            ],
            Words(before, after)
        );
        Assert.Equal(4, SchemaComparison.Between(after, before).Count);
    }

    [Fact]
    public void Only_what_changes_how_rows_are_read_concerns_rows()
    {
        var before = Table(new Column("a", "text"), new Column("b", "text"));
        var after = Table(new Column("a", "text", Nullable: false, Default: "'x'"), new Column("b", "varchar(9)"));
        Assert.Equal([true, true, false], SchemaComparison.Between(before, after).Select(change => change.KeepsRows));
    }

    [Fact]
    public void Columns_that_are_added_are_steps_of_their_own_and_then_take_what_they_take()
    {
        var before = Books();
        TableSchema With(params Column[] added) => before with { Columns = [.. before.Columns, .. added] };
        Assert.Equal(
            [
                "Column a added (text)",
                "Column b added (integer not null default 1)",
                "Column b changed from NULL to NOT NULL",
                "Default of column b set to 1",
            ],
            Steps(before, With(new Column("a", "text"), new Column("b", "integer", Nullable: false, Default: "1")))
        );
        Assert.Empty(SchemaComparison.Steps(before, before));
        Assert.Empty(SchemaComparison.Steps(before, With(new Column("a", "text", Generated: true))));
        Assert.Empty(SchemaComparison.Steps(before, With(new Column("a", "text", KeyOrdinal: 2))));
        Assert.Empty(SchemaComparison.Steps(With(new Column("a", "text")), With(new Column("b", "text"))));
        var indexed = With(new Column("a", "text")) with { UniqueKeys = [new UniqueKey(["a"])] };
        Assert.Equal(["Column a added (text)"], Steps(before, indexed));
    }

    /// <summary>
    /// Each column as its number and its name; of rows between several changes the names alone say which columns they are of.
    /// </summary>
    [Theory]
    [InlineData("1 id,2 a,3 b", "1 id,2 a", "Column b dropped (was text)")]
    [InlineData("1 id,2 a", "1 id,2 x", "Column a renamed to x")]
    [InlineData("1 id,2 a,3 b", "1 id,2 x,4 c", "Column a renamed to x|Column c added (text)|Column b dropped (was text)")]
    [InlineData("1 id,2 a,3 b", "1 id,2 b,3 a", "")]
    [InlineData("1 id,2 a,3 b", "1 id,2 b,4 a", "")]
    [InlineData("1 id,2 a,3 b", "1 id,2 b", "")]
    [InlineData("1 id,2 a,3 b", "1 id,2 a,4 b", "")]
    [InlineData("1 id,2 a", "1 id,2 a int8", "Type of column a changed from text to int8")]
    [InlineData("1 id,2 a,3 b", "1 id,2 a int8,3 b int8", "")]
    [InlineData("1 id,2 a,3 b", "1 id,2 a int8", "")]
    [InlineData("id,a,b", "id,a", "")]
    public void Several_changes_are_steps_only_where_no_name_stands_for_two_columns(string before, string after, string steps) =>
        Assert.Equal(steps, string.Join('|', Steps(Numbered(before), Numbered(after))));

    private static IEnumerable<string> Steps(TableSchema before, TableSchema after) =>
        SchemaComparison.Steps(before, after).Select(step => step.Words);

    private static TableSchema Numbered(string columns) =>
        Table(
            [
                .. columns
                    .Split(',')
                    .Select(text => text.Split(' '))
                    .Select(parts => parts is [var name]
                        ? new Column(name, "text")
                        : new Column(parts[1], parts.ElementAtOrDefault(2) ?? "text", Id: int.Parse(parts[0]))
                    ),
            ]
        );

    /// <summary>Columns with numbers, in any two versions: what both have is paired, and nothing is lost or told twice.</summary>
    [Fact]
    public void Any_two_versions_pair_each_column_once()
    {
        for (var seed = 0; seed < 500; seed++)
        {
            var random = new Random(seed);
            var (before, after) = (Any(random), Any(random));
            var pairs = SchemaComparison.Pairs(before, after);
            var earlier = pairs.Select(pair => pair.Before).OfType<Column>().OrderBy(column => column.Id);
            Assert.True(before.Columns.SequenceEqual(earlier), $"seed {seed}");
            Assert.True(after.Columns.SequenceEqual(pairs.Select(pair => pair.After).OfType<Column>()), $"seed {seed}");
            Assert.True(pairs.All(pair => pair.Before is null || pair.After is null || pair.Before.Id == pair.After.Id), $"seed {seed}");
            var isSame = before.Columns.Select(column => column.Id).SequenceEqual(after.Columns.Select(column => column.Id));
            var keeps = SchemaComparison.Between(before, after).All(change => change.KeepsRows);
            Assert.True((isSame && before.SameForm(after)) == keeps, $"seed {seed}");
        }
    }

    [Fact]
    public void A_digest_is_another_for_whatever_is_another_table_or_has_other_rows()
    {
        var table = Books() with { Incarnation = "1.a", Stamp = "7" };
        Assert.Equal(SchemaDigest.Of(table), SchemaDigest.Of(Books() with { Incarnation = "1.a", Stamp = "7" }));
        Assert.NotEqual(SchemaDigest.Of(table), SchemaDigest.Of(table with { Stamp = "8" }));
        Assert.NotEqual(SchemaDigest.Of(table), SchemaDigest.Of(table with { Incarnation = "2.a" }));
        Assert.NotEqual(SchemaDigest.Of(table), SchemaDigest.Of(table with { UniqueKeys = [new UniqueKey(["isbn"])] }));
        Assert.Equal("", SchemaDigest.Of(null));
    }

    private static TableSchema Any(Random random)
    {
        var ids = Enumerable.Range(1, 6).Where(_ => random.Next(2) == 0).ToList();
        return Table(
            [.. ids.Select(id => new Column($"c{(random.Next(4) == 0 ? id + 10 : id)}", random.Next(3) == 0 ? "int" : "text", Id: id))]
        );
    }

    private static TableSchema Books() =>
        Table(
            new Column("id", "integer", KeyOrdinal: 1),
            new Column("isbn", "text"),
            new Column("edition", "integer"),
            new Column("title", "text"),
            new Column("author", "integer")
        );

    private static TableSchema Table(params Column[] columns) => new(Name, columns, [], []);

    private static IEnumerable<string> Words(TableSchema before, TableSchema after) =>
        SchemaComparison.Between(before, after).Select(change => change.Words);
}
