using Vestige.Core.Changes;
using Vestige.Core.Loading;
using Vestige.Core.Positions;
using Vestige.Core.Reconciling;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;
using Xunit;

namespace Vestige.Tests.Conformance;

/// <summary>What every database must do as a source, whatever its engine.</summary>
public abstract class SourceConformance : LogConformance
{
    private ConnectedSystem system = null!;

    protected abstract Task<ConnectedSystem> ConnectAsync();

    protected override async Task<ConnectedSource> OpenAsync() => system = await ConnectAsync();

    [Fact]
    public async Task A_view_stands_at_its_position_and_gives_the_same_rows_in_every_way()
    {
        const int Rows = 3000;
        await system.RunAsync(
            $"INSERT INTO item WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < {Rows}) SELECT i, 'a' || i FROM n"
        );
        var begin = (await system.Source.Log.BeginLogAsync(Stop)).Position;
        await using var reader = await ReaderAsync(begin);
        await system.RunAsync("UPDATE item SET v = 'before' WHERE id = 5");
        await using var view = await system.Source.Views.OpenViewAsync(0, Stop);
        await system.RunAsync("UPDATE item SET v = 'after' WHERE id = 5");
        await system.RunAsync("DELETE FROM item WHERE id = 6");
        var read = await ReadAsync(reader, 3);
        Assert.Equal([true, false, false], read.Select(fragment => fragment.Position <= view.Position));
        var form = (await view.ReadTablesAsync(Stop)).Single(table => table.Schema.Name == system.Item).Schema;
        var shape = new RowShape(form, [0, 1], [0]);
        var all = await AllAsync(view, form, KeySpan.All);
        Assert.Equal(Rows, all.Count);
        Assert.Equal("before", all.Single(row => row.DisplayAt(0) == "5").DisplayAt(1));

        // Ranges hold every row once.
        var bounds = await view.CutAsync(form, KeySpan.All, 8, Stop);
        Assert.InRange(bounds.Count, 3, 7);
        var cut = Segments.ByRange(bounds);
        var parts = new List<Row>();
        for (var i = 0; i < cut.Count; i++)
        {
            var part = await AllAsync(view, form, cut.SpanOf(i, KeySpan.All));
            Assert.All(part, row => Assert.Equal(i, cut.Of(shape.KeyOf(row), 0)));
            Assert.InRange(part.Count, 1, Rows / 2);
            parts.AddRange(part);
        }

        Assert.Equal(all.Select(row => row.DisplayAt(0)).Order(), parts.Select(row => row.DisplayAt(0)).Order());
        var found = await view.FindAsync(form, [shape.KeyOf(all[7]), shape.KeyOf(all[2000]), shape.KeyOf(system.Row(999_999, null))], Stop);
        Assert.Equal([all[7], all[2000]], found.OrderBy(row => all.IndexOf(row)));
        var drawn = await view.SampleAsync(form, 100, Stop);
        Assert.Equal(100, drawn.Select(row => row.DisplayAt(0)).Distinct().Count());
        Assert.All(drawn, row => Assert.Contains(row, all));
        Assert.Equal(Rows, (await view.SampleAsync(form, Rows * 2, Stop)).Count);
    }

    /// <summary>
    /// Some ranges from one snapshot, the rest and what changed from a later one: together they hold every row as of the
    /// later, and beside them only rows whose keys are gone.
    /// </summary>
    [Fact]
    public async Task A_load_goes_on_from_a_later_snapshot_with_what_is_missing_or_changed()
    {
        const int Rows = 4000;
        var form = (await system.Source.Catalogue.ReadTablesAsync(Stop)).Single(table => table.Schema.Name.Name == "item").Schema;
        await system.RunAsync(
            $"INSERT INTO item WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < {Rows}) SELECT i, 'a' || i FROM n"
        );
        var state = new SortedDictionary<long, string>();
        LoadCheckpoint part;
        await using (var first = await system.Source.Rows.OpenSnapshotAsync(1, 0, Stop))
        {
            if (await first.MarkAsync(form, Stop) is not { } mark)
            {
                Assert.Null(await first.CutRestAsync(form, new LoadCheckpoint("none", first.Position, 0, []), 4, Stop));
                return;
            }

            part = new LoadCheckpoint(mark, first.Position, 0, []);
            var ranges = await first.CutAsync(form, 8, Stop);
            foreach (var range in ranges.Where((_, i) => i is 0 or 1 or 2 or 4 or 5))
            {
                await ReadRangeAsync(first, form, new RowRange(range), state);
                part = part.With(range, 1);
            }
        }

        Assert.Equal(2, part.Done.Count);
        Assert.NotEmpty(state);
        await system.RunAsync(
            "UPDATE item SET v = 'b' WHERE id % 7 = 0",
            "DELETE FROM item WHERE id % 11 = 0",
            "INSERT INTO item VALUES (11, 'came back')"
        );
        await system.RunAsync($"UPDATE item SET id = id + {Rows} WHERE id % 13 = 0", $"INSERT INTO item VALUES ({3 * Rows}, 'new')");
        var there = new SortedDictionary<long, string>();
        await using (var second = await system.Source.Rows.OpenSnapshotAsync(1, 0, Stop))
        {
            var rest = await second.CutRestAsync(form, part, 8, Stop);
            Assert.NotNull(rest);
            foreach (var range in rest)
            {
                await ReadRangeAsync(second, form, range, state);
            }

            foreach (var range in await second.CutAsync(form, 1, Stop))
            {
                await ReadRangeAsync(second, form, new RowRange(range), there);
            }
        }

        Assert.Equal(there, state.Where(row => there.ContainsKey(row.Key)));
        Assert.All(state.Keys.Except(there.Keys), id => Assert.True(id % 11 == 0 || id % 13 == 0, $"{id}"));
        await system.RunAsync("DELETE FROM item WHERE id = 1", "ALTER TABLE item ADD COLUMN w text DEFAULT 'x'");
        await using var third = await system.Source.Rows.OpenSnapshotAsync(1, 0, Stop);
        var changed = (await third.ReadTablesAsync(Stop)).Single(table => table.Schema.Name.Name == "item").Schema;
        Assert.Null(await third.CutRestAsync(changed, part, 8, Stop));
    }

    [Fact]
    public async Task Some_rows_can_be_looked_at()
    {
        var form = (await system.Source.Catalogue.ReadTablesAsync(Stop)).Single(table => table.Schema.Name.Name == "item").Schema;
        Assert.Empty(await system.Source.Lookup.SampleRowsAsync(form, 3, Stop));
        await system.RunAsync("INSERT INTO item VALUES (1, 'a')", "INSERT INTO item VALUES (2, NULL)", "INSERT INTO item VALUES (3, 'c')");
        var rows = await system.Source.Lookup.SampleRowsAsync(form, 3, Stop);
        Assert.Equal(["1 a", "2 NULL", "3 c"], rows.Select(row => $"{row.DisplayAt(0)} {row.DisplayAt(1)}").Order());
        Assert.Equal(2, (await system.Source.Lookup.SampleRowsAsync(form, 2, Stop)).Count);
    }

    private static async Task<List<Row>> AllAsync(IRowsView view, TableSchema form, KeySpan within)
    {
        var rows = new List<Row>();
        await foreach (var block in view.ReadAsync(form, within, Stop))
        {
            for (var reader = new ChangeReader(block.Rows); reader.TryRead(out var change);)
            {
                rows.Add(change.After);
            }
        }

        return rows;
    }
}
