using Vestige.Core.Changes;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;
using Xunit;

namespace Vestige.Tests.Conformance;

/// <summary>What everything must do that has a log and rows as of one position of it.</summary>
public abstract class LogConformance : IAsyncLifetime
{
    private static readonly Dictionary<int, TableSchema> NothingKnown = [];
    private ConnectedSource system = null!;

    /// <summary>An empty system.</summary>
    protected abstract Task<ConnectedSource> OpenAsync();

    public virtual async ValueTask InitializeAsync() => system = await OpenAsync();

    public async ValueTask DisposeAsync()
    {
        await system.DisposeAsync();
        GC.SuppressFinalize(this);
    }

    [Fact]
    public async Task Transactions_come_whole_in_commit_order_with_growing_positions()
    {
        var begin = (await system.Source.Log.BeginLogAsync(Stop)).Position;
        await using var reader = await ReaderAsync(begin);
        await system.ChangeAsync(ItemChange.Insert(1, "a"), ItemChange.Insert(2, "b"));
        await system.ChangeAsync(ItemChange.Update(1, "c"));
        await system.ChangeAsync(ItemChange.Delete(2));
        var read = await ReadAsync(reader, 3);
        Assert.Equal(["+1 a,+2 b", "~1 c", "−2"], read.Select(fragment => Shown(fragment)));
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
        var begin = (await system.Source.Log.BeginLogAsync(Stop)).Position;
        var mine = (await system.Source.Log.SampleAsync(begin, Stop)).Identity;
        var request = LogRequest.First(begin, new HashSet<TableName> { system.Item });
        var refused = await Assert.ThrowsAsync<Engine.Faults.PortException>(() =>
            system.Source.Log.OpenLogAsync(request with { Log = mine with { Server = "another" } }, Stop)
        );
        Assert.True(refused.Transient);
        Assert.IsNotType<Engine.Faults.PlaceLostException>(refused);
        await using var reader = await system.Source.Log.OpenLogAsync(request with { Log = mine }, Stop);
        await system.ChangeAsync(ItemChange.Insert(1, "a"));
        Assert.Single(await ReadAsync(reader, 1));
    }

    [Fact]
    public async Task Reading_goes_on_exactly_behind_a_position()
    {
        var begin = (await system.Source.Log.BeginLogAsync(Stop)).Position;
        List<LogFragment> all;
        await using (var reader = await ReaderAsync(begin))
        {
            for (var i = 1; i <= 6; i++)
            {
                await system.ChangeAsync(ItemChange.Insert(i, "v"));
            }

            all = await ReadAsync(reader, 6);
        }

        foreach (var start in new[] { 1, 4 })
        {
            await using var again = await ReopenAsync(all[start].Position);
            Assert.Equal(all.Skip(start + 1).Select(Shown), (await ReadAsync(again, 5 - start)).Select(Shown));
        }
    }

    [Fact]
    public async Task Tables_that_nobody_asked_for_are_passed_over()
    {
        var begin = (await system.Source.Log.BeginLogAsync(Stop)).Position;
        await using var reader = await ReaderAsync(begin);
        await system.ChangeAsync(ItemChange.Other(1));
        await system.ChangeAsync(ItemChange.Other(2), ItemChange.Insert(7, "x"));
        Assert.Equal("+7 x", Shown(Assert.Single(await ReadAsync(reader, 1))));
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
        await system.ChangeAsync([.. Enumerable.Range(1, 300).Select(i => ItemChange.Insert(i, "first"))]);
        var begin = (await system.Source.Log.BeginLogAsync(Stop)).Position;
        await using var reader = await ReaderAsync(begin);
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
        var begin = (await system.Source.Log.BeginLogAsync(Stop)).Position;
        await system.ChangeAsync(ItemChange.Insert(1, "a"));
        Dictionary<int, TableSchema> known;
        await using (var reader = await ReaderAsync(begin))
        {
            await system.ChangeAsync(ItemChange.Insert(2, "b"));
            known = [];
            await ReadAsync(reader, 1, known);
        }

        await using var again = await ReopenAsync(begin, known);
        await system.ChangeAsync(ItemChange.Insert(3, "c"));
        var more = new Dictionary<int, TableSchema>(known);
        await ReadAsync(again, 1, more);
        Assert.Equal(known.Keys, more.Keys);
        Assert.Equal(["id", "v"], known.Values.Single().Columns.Select(column => column.Name));
        Assert.Equal([0], known.Values.Single().KeyOrdinals);
    }

    [Fact]
    public async Task Positions_have_a_text_form_and_a_distance()
    {
        var begin = (await system.Source.Log.BeginLogAsync(Stop)).Position;
        await system.ChangeAsync(ItemChange.Insert(1, "a"));
        var head = (await system.Source.Log.SampleAsync(begin, Stop)).Head;
        Assert.Equal(head, system.Source.Log.Parse(system.Source.Log.Format(head), 0));
        Assert.True(system.Source.Log.Distance(begin, head) > 0);
        Assert.Null(system.Source.Log.Parse("not a position", 0));
    }

    protected static CancellationToken Stop => TestContext.Current.CancellationToken;

    protected static string Shown(LogFragment fragment)
    {
        var told = new List<string>();
        var reader = new ChangeReader(fragment.Changes);
        while (reader.TryRead(out var change))
        {
            told.Add(
                ChangeSymbols.Of(change.Kind)
                    + (change.After.IsNone ? change.Before.DisplayAt(0) : $"{change.After.DisplayAt(0)} {change.After.DisplayAt(1)}")
            );
        }

        return string.Join(',', told);
    }

    protected static void Apply(LogFragment fragment, SortedDictionary<long, string> state)
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
    protected static async Task ReadRangeAsync(
        ISourceSnapshot snapshot,
        TableSchema form,
        RowRange range,
        SortedDictionary<long, string> state
    )
    {
        await foreach (var block in snapshot.ReadAsync(form, range, new HashSet<string> { "postgresql-copy-text" }, Stop))
        {
            if (block.Encoding is not null)
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
            await system.ChangeAsync(
                ItemChange.Insert(1000 + i, "made"),
                ItemChange.Update(1 + (i * 7 % 300), $"changed {i}"),
                ItemChange.Delete(1000 + (i / 2))
            );
        }
    }

    protected Task<ILogReader> ReaderAsync(LogPosition after) =>
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

    protected static async Task<List<LogFragment>> ReadAsync(ILogReader reader, int count, Dictionary<int, TableSchema>? forms = null)
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
}
