using CsCheck;
using Vestige.Core.Changes;
using Vestige.Core.Folding;
using Vestige.Core.Schemas;
using Xunit;

namespace Vestige.Core.Tests;

public class FoldingTests
{
    private static readonly TableSchema Table = new(
        new TableName("s", "t"),
        [new Column("id", "INTEGER", KeyOrdinal: 1), new Column("a", "TEXT"), new Column("b", "TEXT")],
        [],
        []
    );

    [Fact]
    public void Insert_then_update_is_an_insert_of_the_last_row() =>
        AssertFolds([Insert(1, "x"), Update(1, "x", "y")], [(ChangeKind.Insert, 1L, "y")]);

    [Fact]
    public void Insert_then_delete_is_nothing() => AssertFolds([Insert(1, "x"), Delete(1, "x")], []);

    [Fact]
    public void Update_then_update_is_the_last_update() =>
        AssertFolds([Update(1, "x", "y"), Update(1, "y", "z")], [(ChangeKind.Update, 1L, "z")]);

    [Fact]
    public void Update_then_delete_is_a_delete() => AssertFolds([Update(1, "x", "y"), Delete(1, "y")], [(ChangeKind.Delete, 1L, null)]);

    [Fact]
    public void Delete_then_insert_replaces() => AssertFolds([Delete(1, "x"), Insert(1, "y")], [(ChangeKind.Update, 1L, "y")]);

    [Fact]
    public void A_change_of_the_key_is_a_delete_of_the_old_and_an_insert_of_the_new() =>
        AssertFolds(
            [new RowChange(ChangeKind.Update, 0, Of(1, "x"), Of(2, "x"))],
            [(ChangeKind.Delete, 1L, null), (ChangeKind.Insert, 2L, "x")]
        );

    [Fact]
    public void A_truncate_forgets_what_came_before()
    {
        var folded = Fold([Insert(1, "x"), new RowChange(ChangeKind.Truncate, 0, default, default), Insert(2, "y")]);
        Assert.True(folded.EmptiedFirst);
        Assert.Equal(2, Assert.Single(folded.Rows).After.IntegerAt(0));
    }

    [Fact]
    public void An_absent_value_is_taken_from_an_earlier_change()
    {
        var folded = Fold([Update(1, "x", "y"), new RowChange(ChangeKind.Update, 0, Key(1), AbsentB(1, "z"))]);
        var row = Assert.Single(folded.Rows).After;
        Assert.Equal("z", row.TextAt(1));
        Assert.Equal("b", row.TextAt(2));
    }

    [Fact]
    public void An_absent_value_known_nowhere_stays_absent_so_that_the_row_is_updated_in_place()
    {
        var folded = Fold([new RowChange(ChangeKind.Update, 0, Key(1), AbsentB(1, "z"))]);
        Assert.Equal(ValueKind.Absent, Assert.Single(folded.Rows).After.KindAt(2));
    }

    [Fact]
    public void A_change_of_the_key_without_the_whole_row_is_refused() =>
        Assert.Throws<FoldingException>(() => Fold([new RowChange(ChangeKind.Update, 0, Key(1), AbsentB(2, "z"))]));

    [Fact]
    public void A_log_that_contradicts_itself_is_refused()
    {
        Assert.Throws<FoldingException>(() => Fold([Insert(1, "x"), Insert(1, "y")]));
        Assert.Throws<FoldingException>(() => Fold([Delete(1, "x"), Delete(1, "x")]));
        Assert.Throws<FoldingException>(() => Fold([Delete(1, "x"), Update(1, "x", "y")]));
    }

    /// <summary>Whatever a target has of the keys that changes name, it ends right when each gets its final row, or loses it.</summary>
    [Fact]
    public void Final_rows_and_keys_that_came_and_went_put_any_target_right() =>
        Gen.Select(
                Gen.Int[0, 5].Array[0, 6],
                Gen.Select(Gen.Int[0, 7], Gen.Int[0, 6], Gen.Int[0, 99]).Array[0, 60],
                Gen.Select(Gen.Int[0, 7], Gen.Int[0, 2]).Array[0, 8]
            )
            .Sample(
                (present, dice, damage) =>
                {
                    var state = present.Distinct().ToDictionary(key => (long)key, key => Of(key, $"p{key}"));
                    var changes = dice.Select(die => Next(state, die.Item1, die.Item2, die.Item3)).OfType<RowChange>().ToList();
                    var fold = new TableFold(Table);
                    changes.ForEach(fold.Add);
                    var folded = fold.Finish();
                    if (folded.EmptiedFirst)
                    {
                        return;
                    }

                    var named = folded.Rows.Select(row => row.Kind == ChangeKind.Delete ? row.Before : row.After).Concat(fold.Passing);
                    var target = new Dictionary<long, Row>(state);
                    foreach (var (key, what) in damage.Where(one => named.Any(row => row.IntegerAt(0) == one.Item1)))
                    {
                        target[key] = Of(key, "damaged");
                        if (what == 0)
                        {
                            target.Remove(key);
                        }
                    }

                    fold.Passing.ToList().ForEach(row => target.Remove(row.IntegerAt(0)));
                    foreach (var row in folded.Rows)
                    {
                        target.Remove((row.Kind == ChangeKind.Delete ? row.Before : row.After).IntegerAt(0));
                        if (row.Kind != ChangeKind.Delete)
                        {
                            target[row.After.IntegerAt(0)] = row.After;
                        }
                    }

                    Assert.Equal(state.OrderBy(pair => pair.Key), target.OrderBy(pair => pair.Key));
                }
            );

    [Fact]
    public void Folding_and_applying_equals_applying_one_by_one()
    {
        // Any sequence is made from dice, so that each is possible in the state it meets.
        Gen.Select(Gen.Int[0, 5].Array[0, 6], Gen.Select(Gen.Int[0, 9], Gen.Int[0, 6], Gen.Int[0, 99]).Array[0, 60])
            .Sample(
                (present, dice) =>
                {
                    var start = present.Distinct().ToDictionary(key => (long)key, key => Of(key, $"p{key}"));
                    var state = new Dictionary<long, Row>(start);
                    var changes = dice.Select(die => Next(state, die.Item1, die.Item2, die.Item3)).OfType<RowChange>().ToList();
                    var folded = Fold(changes);
                    var applied = folded.EmptiedFirst ? [] : new Dictionary<long, Row>(start);
                    foreach (var row in folded.Rows.Where(row => row.Kind == ChangeKind.Delete))
                    {
                        Assert.True(applied.Remove(row.Before.IntegerAt(0)));
                    }

                    foreach (var row in folded.Rows.Where(row => row.Kind != ChangeKind.Delete))
                    {
                        Assert.Equal(row.Kind == ChangeKind.Update, applied.ContainsKey(row.After.IntegerAt(0)));
                        applied[row.After.IntegerAt(0)] = row.After;
                    }

                    Assert.Equal(state.OrderBy(pair => pair.Key), applied.OrderBy(pair => pair.Key));
                    Assert.Equal(
                        folded.Rows.Count,
                        folded
                            .Rows.Select(row => RowKey.Of(row.After.IsNone ? row.Before : row.After, Table.KeyOrdinals))
                            .Distinct()
                            .Count()
                    );
                }
            );
    }

    private static RowChange? Next(Dictionary<long, Row> state, int what, int key, int value)
    {
        var exists = state.TryGetValue(key, out var before);
        if (what == 9)
        {
            state.Clear();
            return new RowChange(ChangeKind.Truncate, 0, default, default);
        }

        if (!exists)
        {
            return new RowChange(ChangeKind.Insert, 0, default, state[key] = Of(key, $"v{value}"));
        }

        if (what < 3)
        {
            state.Remove(key);
            return new RowChange(ChangeKind.Delete, 0, before, default);
        }

        var moved = what < 5 ? key + 7L : key;
        if (moved != key && state.ContainsKey(moved))
        {
            return null;
        }

        state.Remove(key);
        return new RowChange(ChangeKind.Update, 0, before, state[moved] = Of(moved, $"v{value}"));
    }

    private static void AssertFolds(IReadOnlyList<RowChange> changes, IReadOnlyList<(ChangeKind Kind, long Key, string? Value)> expected) =>
        Assert.Equal(
            expected,
            Fold(changes)
                .Rows.Select(row =>
                    (
                        row.Kind,
                        (row.After.IsNone ? row.Before : row.After).IntegerAt(0),
                        row.After.IsNone ? null : (string?)row.After.TextAt(1)
                    )
                )
        );

    private static FoldedTable Fold(IEnumerable<RowChange> changes)
    {
        var fold = new TableFold(Table);
        foreach (var change in changes)
        {
            fold.Add(change);
        }

        return fold.Finish();
    }

    private static RowChange Insert(long key, string value) => new(ChangeKind.Insert, 0, default, Of(key, value));

    private static RowChange Update(long key, string before, string after) => new(ChangeKind.Update, 0, Of(key, before), Of(key, after));

    private static RowChange Delete(long key, string value) => new(ChangeKind.Delete, 0, Of(key, value), default);

    private static Row Of(long key, string value) => Build(key, writer =>
        {
            writer.Text(value);
            writer.Text("b");
        });

    private static Row Key(long key) => Build(key, writer =>
        {
            writer.Absent();
            writer.Absent();
        });

    private static Row AbsentB(long key, string value) => Build(key, writer =>
        {
            writer.Text(value);
            writer.Absent();
        });

    private static Row Build(long key, Action<RowWriter> rest)
    {
        var writer = new RowWriter();
        writer.Begin(3);
        writer.Integer(key);
        rest(writer);
        return writer.ToRow();
    }
}
