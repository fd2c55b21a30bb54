using Vestige.Core.Changes;
using Vestige.Core.Loading;
using Vestige.Core.Positions;
using Vestige.Core.Reconciling;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;
using Xunit;

namespace Vestige.Tests.Conformance;

/// <summary>What every source must do, whatever its engine.</summary>
public abstract class SourceConformance : IAsyncLifetime
{
    private static readonly Dictionary<int, TableSchema> NothingKnown = [];
    private ConnectedSystem system = null!;

    protected abstract Task<ConnectedSystem> ConnectAsync();

    public async ValueTask InitializeAsync() => system = await ConnectAsync();

    public async ValueTask DisposeAsync()
    {
        await system.DisposeAsync();
        GC.SuppressFinalize(this);
    }

    [Fact]
    public async Task Transactions_come_whole_in_commit_order_with_growing_positions()
    {
        var begin = await system.Source.Log.BeginLogAsync(Stop);
        await using var reader = await OpenAsync(begin);
        await system.RunAsync("INSERT INTO item VALUES (1, 'a')", "INSERT INTO item VALUES (2, 'b')");
        await system.RunAsync("UPDATE item SET v = 'c' WHERE id = 1");
        await system.RunAsync("DELETE FROM item WHERE id = 2");
        var read = await ReadAsync(reader, 3);
        Assert.Equal(["+1 a,+2 b", "~1 c", "−2"], read.Select(fragment => Told(fragment)));
        Assert.All(read, fragment => Assert.True(fragment.Whole));
        Assert.True(begin < read[0].Position && read[0].Position < read[1].Position && read[1].Position < read[2].Position);
        Assert.All(read, fragment =>
            Assert.InRange(DateTimeOffset.UtcNow - fragment.CommittedAt, TimeSpan.FromMinutes(-1), TimeSpan.FromMinutes(5))
        );
    }

    /// <summary>A view shows exactly what the log holds up to its position, whatever is committed while it is read.</summary>
    /// <summary>The system behind a connection may have become another since its log was asked for.</summary>
    [Fact]
    public async Task A_log_of_another_identity_is_not_read()
    {
        var begin = await system.Source.Log.BeginLogAsync(Stop);
        var mine = (await system.Source.Log.SampleAsync(begin, Stop)).Identity;
        var request = LogRequest.First(begin, new HashSet<TableName> { system.Item });
        var refused = await Assert.ThrowsAsync<Engine.Faults.PortException>(() =>
            system.Source.Log.OpenLogAsync(request with { Log = mine with { Server = "another" } }, Stop)
        );
        Assert.True(refused.Transient);
        Assert.IsNotType<Engine.Faults.PlaceLostException>(refused);
        await using var reader = await system.Source.Log.OpenLogAsync(request with { Log = mine }, Stop);
        await system.RunAsync("INSERT INTO item VALUES (1, 'a')");
        Assert.Single(await ReadAsync(reader, 1));
    }

    [Fact]
    public async Task A_view_stands_at_its_position_and_gives_the_same_rows_in_every_way()
    {
        const int Rows = 3000;
        await system.RunAsync(
            $"INSERT INTO item WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < {Rows}) SELECT i, 'a' || i FROM n"
        );
        var begin = await system.Source.Log.BeginLogAsync(Stop);
        await using var reader = await OpenAsync(begin);
        await system.RunAsync("UPDATE item SET v = 'before' WHERE id = 5");
        await using var view = await system.Source.Rows.OpenViewAsync(0, Stop);
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
        LoadPart part;
        await using (var first = await system.Source.Rows.OpenSnapshotAsync(1, 0, Stop))
        {
            if (await first.MarkAsync(form, Stop) is not { } mark)
            {
                Assert.Null(await first.CutRestAsync(form, new LoadPart("none", first.Position, 0, []), 4, Stop));
                return;
            }

            part = new LoadPart(mark, first.Position, 0, []);
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

    [Fact]
    public async Task Reading_goes_on_exactly_behind_a_position()
    {
        var begin = await system.Source.Log.BeginLogAsync(Stop);
        List<LogFragment> all;
        await using (var reader = await OpenAsync(begin))
        {
            for (var i = 1; i <= 6; i++)
            {
                await system.RunAsync($"INSERT INTO item VALUES ({i}, 'v')");
            }

            all = await ReadAsync(reader, 6);
        }

        foreach (var start in new[] { 1, 4 })
        {
            await using var again = await ReopenAsync(all[start].Position);
            Assert.Equal(all.Skip(start + 1).Select(Told), (await ReadAsync(again, 5 - start)).Select(Told));
        }
    }

    [Fact]
    public async Task Tables_that_nobody_asked_for_are_passed_over()
    {
        var begin = await system.Source.Log.BeginLogAsync(Stop);
        await using var reader = await OpenAsync(begin);
        await system.RunAsync("INSERT INTO other VALUES (1)");
        await system.RunAsync("INSERT INTO other VALUES (2)", "INSERT INTO item VALUES (7, 'x')");
        Assert.Equal("+7 x", Told(Assert.Single(await ReadAsync(reader, 1))));
        var head = (await system.Source.Log.SampleAsync(begin, Stop)).Head;
        var passed = LogPosition.Zero;
        for (var i = 0; i < 100 && passed < head; i++)
        {
            passed = (await reader.ReadAsync(TimeSpan.FromMilliseconds(100), Stop)).Passed;
        }

        Assert.True(passed >= head, $"passed {passed}, head {head}");
    }

    [Fact]
    public async Task A_snapshot_and_the_log_behind_it_make_the_state_without_gap_or_overlap()
    {
        await system.RunAsync([.. Enumerable.Range(1, 300).Select(i => $"INSERT INTO item VALUES ({i}, 'first')")]);
        var begin = await system.Source.Log.BeginLogAsync(Stop);
        await using var reader = await OpenAsync(begin);
        using var ending = new CancellationTokenSource();
        var work = WorkAsync(ending.Token);
        await Task.Delay(100, Stop);
        var state = new SortedDictionary<long, string>();
        LogPosition position;
        await using (var snapshot = await system.Source.Rows.OpenSnapshotAsync(2, 0, Stop))
        {
            position = snapshot.Position;
            var form = (await snapshot.ReadTablesAsync(Stop)).Single(table => table.Schema.Name == system.Item).Schema;
            foreach (var range in await snapshot.CutAsync(form, 4, Stop))
            {
                await ReadRangeAsync(snapshot, form, new RowRange(range), state);
            }
        }

        await Task.Delay(100, Stop);
        await ending.CancelAsync();
        await work;
        var head = (await system.Source.Log.SampleAsync(begin, Stop)).Head;
        LogRead read;
        do
        {
            read = await reader.ReadAsync(TimeSpan.FromMilliseconds(50), Stop);
            foreach (var fragment in read.Fragments.Where(fragment => fragment.Position > position))
            {
                Apply(fragment, state);
            }
        } while (read.Passed < head);

        Assert.Equal(await system.RowsAsync(), state.Select(pair => $"{pair.Key}={pair.Value}"));
    }

    [Fact]
    public async Task The_number_of_a_form_stands_for_it_for_ever()
    {
        var begin = await system.Source.Log.BeginLogAsync(Stop);
        await system.RunAsync("INSERT INTO item VALUES (1, 'a')");
        Dictionary<int, TableSchema> known;
        await using (var reader = await OpenAsync(begin))
        {
            await system.RunAsync("INSERT INTO item VALUES (2, 'b')");
            known = [];
            await ReadAsync(reader, 1, known);
        }

        await using var again = await ReopenAsync(begin, known);
        await system.RunAsync("INSERT INTO item VALUES (3, 'c')");
        var more = new Dictionary<int, TableSchema>(known);
        await ReadAsync(again, 1, more);
        Assert.Equal(known.Keys, more.Keys);
        Assert.Equal(["id", "v"], known.Values.Single().Columns.Select(column => column.Name));
        Assert.Equal([0], known.Values.Single().KeyOrdinals);
    }

    [Fact]
    public async Task Positions_have_a_text_form_and_a_distance()
    {
        var begin = await system.Source.Log.BeginLogAsync(Stop);
        await system.RunAsync("INSERT INTO item VALUES (1, 'a')");
        var head = (await system.Source.Log.SampleAsync(begin, Stop)).Head;
        Assert.Equal(head, system.Source.Log.Parse(system.Source.Log.Format(head), 0));
        Assert.True(system.Source.Log.Distance(begin, head) > 0);
        Assert.Null(system.Source.Log.Parse("not a position", 0));
    }

    private static CancellationToken Stop => TestContext.Current.CancellationToken;

    private static string Told(LogFragment fragment)
    {
        var told = new List<string>();
        var reader = new ChangeReader(fragment.Changes);
        while (reader.TryRead(out var change))
        {
            told.Add(
                ChangeMarks.Of(change.Kind)
                    + (change.After.IsNone ? change.Before.DisplayAt(0) : $"{change.After.DisplayAt(0)} {change.After.DisplayAt(1)}")
            );
        }

        return string.Join(',', told);
    }

    private static void Apply(LogFragment fragment, SortedDictionary<long, string> state)
    {
        var reader = new ChangeReader(fragment.Changes);
        while (reader.TryRead(out var change))
        {
            var id = long.Parse(
                (change.After.IsNone ? change.Before : change.After).DisplayAt(0),
                System.Globalization.CultureInfo.InvariantCulture
            );
            switch (change.Kind)
            {
                case ChangeKind.Insert:
                    state.Add(id, change.After.DisplayAt(1));
                    break;
                case ChangeKind.Update:
                    Assert.True(state.ContainsKey(id));
                    state[id] = change.After.DisplayAt(1);
                    break;
                default:
                    Assert.True(state.Remove(id));
                    break;
            }
        }
    }

    /// <summary>The common form of rows, or the one engine's own text form that this suite can read.</summary>
    private static async Task ReadRangeAsync(
        ISourceSnapshot snapshot,
        TableSchema form,
        RowRange range,
        SortedDictionary<long, string> state
    )
    {
        await foreach (var block in snapshot.ReadAsync(form, range, new HashSet<string> { "postgresql-copy-text" }, Stop))
        {
            if (block.Form is not null)
            {
                foreach (
                    var line in System.Text.Encoding.UTF8.GetString(block.Rows.Span).Split('\n', StringSplitOptions.RemoveEmptyEntries)
                )
                {
                    var values = line.Split('\t');
                    state[long.Parse(values[0], System.Globalization.CultureInfo.InvariantCulture)] = values[1];
                }

                continue;
            }

            Apply(new LogFragment(default, default, true, true, block.Count, block.Rows), state);
        }
    }

    private async Task WorkAsync(CancellationToken ending)
    {
        for (var i = 1; !ending.IsCancellationRequested; i++)
        {
            await Task.Delay(1, CancellationToken.None);
            await system.RunAsync(
                $"INSERT INTO item VALUES ({1000 + i}, 'made')",
                $"UPDATE item SET v = 'changed {i}' WHERE id = {1 + (i * 7 % 300)}",
                $"DELETE FROM item WHERE id = {1000 + (i / 2)}"
            );
        }
    }

    private Task<ILogReader> OpenAsync(LogPosition after) =>
        system.Source.Log.OpenLogAsync(LogRequest.First(after, new HashSet<TableName> { system.Item }), Stop);

    /// <summary>A reader that has just gone may still hold its place at the server for a moment.</summary>
    private async Task<ILogReader> ReopenAsync(LogPosition after, IReadOnlyDictionary<int, TableSchema>? known = null)
    {
        for (var tries = 0; ; tries++)
        {
            try
            {
                return await system.Source.Log.OpenLogAsync(
                    LogRequest.First(after, new HashSet<TableName> { system.Item }) with
                    {
                        Known = known ?? NothingKnown,
                    },
                    Stop
                );
            }
            catch (Engine.Faults.PortException exception) when (exception.Transient && tries < 100)
            {
                await Task.Delay(50, Stop);
            }
        }
    }

    private static async Task<List<LogFragment>> ReadAsync(ILogReader reader, int count, Dictionary<int, TableSchema>? forms = null)
    {
        var fragments = new List<LogFragment>();
        for (var tries = 0; fragments.Count < count; tries++)
        {
            Assert.True(tries < 200, $"{fragments.Count} of {count} transactions came");
            var read = await reader.ReadAsync(TimeSpan.FromMilliseconds(100), Stop);
            fragments.AddRange(read.Fragments);
            foreach (var (number, form) in read.Relations)
            {
                forms?[number] = form;
            }
        }

        return fragments;
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
