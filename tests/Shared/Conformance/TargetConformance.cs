using Vestige.Core.Changes;
using Vestige.Core.Folding;
using Vestige.Core.Loading;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Xunit;

namespace Vestige.Tests.Conformance;

/// <summary>What every target must do, whatever its engine.</summary>
public abstract class TargetConformance : IAsyncLifetime
{
    private ConnectedSystem system = null!;

    protected abstract Task<ConnectedSystem> ConnectAsync();

    public async ValueTask InitializeAsync() => system = await ConnectAsync();

    public async ValueTask DisposeAsync()
    {
        await system.DisposeAsync();
        GC.SuppressFinalize(this);
    }

    [Fact]
    public async Task Rows_and_position_are_committed_together_or_not_at_all()
    {
        var form = await system.FormAsync();
        await using var session = await system.Target.Tables.OpenSessionAsync("c", 1, Stop);
        await using (var given = await session.BeginAsync(checkReferences: true, Stop))
        {
            await given.ApplyAsync(form, new RowChange(ChangeKind.Insert, 0, default, system.Row(1, "a")), Stop);
        }

        Assert.Empty(await system.RowsAsync());
        Assert.Null((await system.Target.Tables.ReadProgressAsync("c", Stop)).Position);
        await using (var kept = await session.BeginAsync(checkReferences: true, Stop))
        {
            await kept.ApplyAsync(form, new RowChange(ChangeKind.Insert, 0, default, system.Row(1, "a")), Stop);
            await kept.CommitAsync(
                new ProgressUpdate(
                    new LogPosition(77),
                    [new TableProgress(form.Name, Loaded: true, new LogPosition(5))],
                    new LogIdentity("s", 3)
                ),
                Stop
            );
        }

        Assert.Equal(["1=a"], await system.RowsAsync());
        var progress = await system.Target.Tables.ReadProgressAsync("c", Stop);
        Assert.Equal((new LogPosition(77), new LogIdentity("s", 3)), (progress.Position!.Value, progress.Identity));
        Assert.Equal(new TableProgress(form.Name, Loaded: true, new LogPosition(5)), Assert.Single(progress.Tables));
    }

    /// <summary>Rows and position in a view are of one moment, and stay so.</summary>
    [Fact]
    public async Task A_view_shows_the_rows_of_the_position_that_it_names()
    {
        var form = await system.FormAsync();
        await using (var unknown = await system.Target.Views.OpenViewAsync("c", Stop))
        {
            Assert.Null(unknown.Position);
        }

        await using var session = await system.Target.Tables.OpenSessionAsync("c", 1, Stop);
        IRowsView? middle = null;
        for (var place = 1; place <= 3; place++)
        {
            await using var transaction = await session.BeginAsync(checkReferences: true, Stop);
            await transaction.ApplyAsync(form, new RowChange(ChangeKind.Insert, 0, default, system.Row(place, "a")), Stop);
            await transaction.CommitAsync(new ProgressUpdate(new LogPosition((ulong)place), []), Stop);
            middle ??= place == 2 ? await system.Target.Views.OpenViewAsync("c", Stop) : null;
        }

        await using var view = middle!;
        Assert.Equal(new LogPosition(2), view.Position);
        var keys = Enumerable.Range(1, 4).Select(key => new RowShape(form, [0], [0]).KeyOf(system.Row(key, null))).ToList();
        Assert.Equal(["1", "2"], (await view.FindAsync(form, keys, Stop)).Select(row => row.DisplayAt(0)).Order());
        Assert.Equal(3, (await system.RowsAsync()).Count);
    }

    [Fact]
    public async Task A_later_term_shuts_the_earlier_one_out()
    {
        await using var older = await system.Target.Tables.OpenSessionAsync("c", 4, Stop);
        await using var newer = await system.Target.Tables.OpenSessionAsync("c", 5, Stop);
        await Assert.ThrowsAsync<FencedException>(() => older.BeginAsync(checkReferences: true, Stop));
        await Assert.ThrowsAsync<FencedException>(() => system.Target.Tables.OpenSessionAsync("c", 5, Stop));
        await using var other = await system.Target.Tables.OpenSessionAsync("another", 1, Stop);
        await using var transaction = await newer.BeginAsync(checkReferences: true, Stop);
        await transaction.CommitAsync(new ProgressUpdate(new LogPosition(1), []), Stop);
    }

    /// <summary>Several may write rows of a load at once, and none of them after a successor has come.</summary>
    [Fact]
    public async Task Writers_beside_a_worker_are_fenced_with_it()
    {
        var form = await system.FormAsync();
        await using var session = await system.Target.Tables.OpenSessionAsync("c", 1, Stop);
        var beside = new List<ITargetSession>();
        while (beside.Count < 2 && await session.OpenBesideAsync(Stop) is { } another)
        {
            beside.Add(another);
        }

        if (beside.Count == 0)
        {
            return;
        }

        await using (var first = await beside[0].BeginAsync(checkReferences: false, Stop))
        await using (var second = await beside[1].BeginAsync(checkReferences: false, Stop))
        await using (var main = await session.BeginAsync(checkReferences: false, Stop))
        {
            await first.ApplyAsync(form, new RowChange(ChangeKind.Insert, 0, default, system.Row(1, "a")), Stop);
            await second.ApplyAsync(form, new RowChange(ChangeKind.Insert, 0, default, system.Row(2, "b")), Stop);
            await first.CommitAsync(ProgressUpdate.None, Stop);
            var successor = system.Target.Tables.OpenSessionAsync("c", 2, Stop);
            Assert.NotSame(successor, await Task.WhenAny(successor, Task.Delay(300, Stop)));
            await second.CommitAsync(ProgressUpdate.None, Stop);
            await main.CommitAsync(ProgressUpdate.None, Stop);
            await using var came = await successor;
        }

        Assert.Equal(["1=a", "2=b"], await system.RowsAsync());
        await Assert.ThrowsAsync<FencedException>(() => beside[0].BeginAsync(checkReferences: false, Stop));
        foreach (var opened in beside)
        {
            await opened.DisposeAsync();
        }
    }

    /// <summary>A load writes while the session beside it moves the position; that session then learns what was written.</summary>
    [Fact]
    public async Task A_session_beside_another_writes_tables_while_that_one_moves_the_position()
    {
        var form = await system.FormAsync();
        await using var session = await system.Target.Tables.OpenSessionAsync("c", 1, Stop);
        var begun = new TableProgress(form.Name, Loaded: false, LogPosition.Zero);
        await session.SaveAsync(
            new ProgressUpdate(new LogPosition(1), [begun], new LogIdentity("s", 3)),
            Stop
        );
        if (await session.OpenBesideAsync(Stop) is not { } beside)
        {
            return;
        }

        await using (beside)
        {
            await session.SaveAsync(new ProgressUpdate(new LogPosition(2), []), Stop);
            var loaded = new TableProgress(form.Name, Loaded: true, new LogPosition(2))
            {
                Reached = new LogPosition(2),
                AgreedUpTo = new LogPosition(3),
            };
            await beside.SaveAsync(new ProgressUpdate(null, [loaded]), Stop);
            await session.SaveAsync(new ProgressUpdate(new LogPosition(3), []), Stop);
            session.Learn([loaded]);
            Assert.Equal([loaded], session.Progress.Tables);
        }

        var progress = await system.Target.Tables.ReadProgressAsync("c", Stop);
        Assert.Equal(new LogPosition(3), progress.Position);
        Assert.Equal(new LogPosition(2), Assert.Single(progress.Tables).Reached);
        Assert.Equal(new LogPosition(3), progress.Tables[0].AgreedUpTo);
    }

    /// <summary>A reader sees the rows of before until those of the load are all there; then those, and nothing else.</summary>
    [Fact]
    public async Task Rows_loaded_beside_a_table_replace_its_rows_in_one_step()
    {
        if (system.Target.Find<IRowReplacement>() is not { } replacement)
        {
            return;
        }

        var form = await system.FormAsync();
        await system.RunAsync(
            "INSERT INTO item VALUES (1, 'stays')",
            "INSERT INTO item VALUES (2, 'old')",
            "INSERT INTO item VALUES (3, 'goes')",
            "INSERT INTO item VALUES (5, 'x')"
        );
        await using var session = await system.Target.Tables.OpenSessionAsync("c", 1, Stop);
        await session.BuildKeysAsync(form, Stop);
        var beside = replacement.BesideOf("c", form);
        foreach (var _ in new[] { "a load that was interrupted", "the load" })
        {
            await using var loading = await session.BeginAsync(checkReferences: false, Stop);
            await replacement.MakeBesideAsync(loading, beside, Stop);
            foreach (var row in new[] { system.Row(1, "stays"), system.Row(2, "new"), system.Row(4, "new"), system.Row(5, "") })
            {
                await loading.LoadAsync(beside, BlockOf(row), Stop);
            }

            await loading.CommitAsync(ProgressUpdate.None, Stop);
        }

        await using (var given = await session.BeginAsync(checkReferences: false, Stop))
        {
            Assert.Equal(new ReplacedRows(1, 2, 1), await replacement.ReplaceAsync(given, form, beside, 4, Stop));
        }

        Assert.Equal(["1=stays", "2=old", "3=goes", "5=x"], await system.RowsAsync());
        await using (var wrong = await session.BeginAsync(checkReferences: false, Stop))
        {
            await Assert.ThrowsAsync<PortException>(() => replacement.ReplaceAsync(wrong, form, beside, 5, Stop));
        }

        await using (var kept = await session.BeginAsync(checkReferences: false, Stop))
        {
            await replacement.ReplaceAsync(kept, form, beside, 4, Stop);
            await kept.CommitAsync(ProgressUpdate.None, Stop);
        }

        Assert.Equal(["1=stays", "2=new", "4=new", "5="], await system.RowsAsync());
    }

    /// <summary>An interrupted load continues over rows that are there, and remembers how far it was.</summary>
    [Fact]
    public async Task Rows_of_a_load_that_goes_on_take_the_place_of_those_that_are_there()
    {
        var form = await system.FormAsync();
        await system.RunAsync("INSERT INTO item VALUES (1, 'old')", "INSERT INTO item VALUES (2, 'stays')");
        await using var session = await system.Target.Tables.OpenSessionAsync("c", 1, Stop);
        await session.BuildPrimaryKeyAsync(form, Stop);
        var range = new KeyRange(default, system.Row(5, "end"));
        var part = new LoadCheckpoint("a mark | of: its own, form", new LogPosition(9), 3, [range]);
        await using (var transaction = await session.BeginAsync(checkReferences: false, Stop))
        {
            await transaction.MergeAsync(form, Block((1, "new"), (3, "made")), Stop);
            await transaction.MergeAsync(form, Block((4, "made as well")), Stop);
            await transaction.CommitAsync(
                new ProgressUpdate(null, [new TableProgress(form.Name, Loaded: false, LogPosition.Zero, Part: part)]),
                Stop
            );
        }

        Assert.Equal(["1=new", "2=stays", "3=made", "4=made as well"], await system.RowsAsync());
        var kept = Assert.Single((await system.Target.Tables.ReadProgressAsync("c", Stop)).Tables).Part!;
        Assert.Equal((part.Mark, part.Since, part.Rows), (kept.Mark, kept.Since, kept.Rows));
        Assert.Equal(range, Assert.Single(kept.Done));
        await using (var transaction = await session.BeginAsync(checkReferences: false, Stop))
        {
            await transaction.MergeAsync(form, Block((4, "again")), Stop);
            await transaction.CommitAsync(new ProgressUpdate(null, [new TableProgress(form.Name, Loaded: true, new LogPosition(9))]), Stop);
        }

        Assert.Contains("4=again", await system.RowsAsync());
        Assert.Null(Assert.Single((await system.Target.Tables.ReadProgressAsync("c", Stop)).Tables).Part);
    }

    [Fact]
    public async Task Forgetting_leaves_the_rows()
    {
        var form = await system.FormAsync();
        await using (var session = await system.Target.Tables.OpenSessionAsync("c", 1, Stop))
        {
            await ApplyAsync(session, form, [new RowChange(ChangeKind.Insert, 0, default, system.Row(1, "a"))], folded: true, 1);
        }

        await system.Target.Tables.ForgetAsync("c", Stop);
        Assert.Equal(TargetProgress.None.Position, (await system.Target.Tables.ReadProgressAsync("c", Stop)).Position);
        Assert.Equal(["1=a"], await system.RowsAsync());
    }

    /// <summary>Any sequence of changes: folded in batches of any size, or one by one, the rows are those of a model.</summary>
    [Theory]
    [InlineData(1)]
    [InlineData(7)]
    [InlineData(400)]
    public async Task Folded_or_one_by_one_the_rows_are_the_same(int perBatch)
    {
        var random = new Random(perBatch);
        var form = await system.FormAsync();
        var model = new SortedDictionary<long, string>();
        await using var session = await system.Target.Tables.OpenSessionAsync("c", 1, Stop);
        for (var batch = 1; batch <= (perBatch > 100 ? 6 : 40); batch++)
        {
            var changes = Enumerable.Range(0, random.Next(1, perBatch + 1)).Select(_ => Change(random, model)).ToList();
            var unexpected = await ApplyAsync(session, form, changes, folded: batch % 3 != 0, batch);
            Assert.Equal(0, unexpected);
            Assert.Equal(model.Select(pair => $"{pair.Key}={pair.Value}"), await system.RowsAsync());
        }
    }

    /// <summary>A large transaction comes in several batches, and each acts on what the ones before it have left.</summary>
    [Theory]
    [InlineData(7)]
    [InlineData(400)]
    public async Task Several_folded_batches_of_one_transaction_act_one_after_the_other(int perBatch)
    {
        var random = new Random(perBatch);
        var form = await system.FormAsync();
        var model = new SortedDictionary<long, string>();
        await using var session = await system.Target.Tables.OpenSessionAsync("c", 1, Stop);
        for (var position = 1; position <= 3; position++)
        {
            await using var transaction = await session.BeginAsync(checkReferences: true, Stop);
            for (var batch = 1; batch <= 5; batch++)
            {
                var fold = new TableFold(form);
                foreach (var change in Enumerable.Range(0, random.Next(1, perBatch + 1)).Select(_ => Change(random, model)).ToList())
                {
                    fold.Add(change);
                }

                Assert.DoesNotContain((await transaction.ApplyAsync([fold.Finish()], Stop)).Values, counts => counts.Total > 0);
            }

            await transaction.CommitAsync(new ProgressUpdate(new LogPosition((ulong)position), []), Stop);
            Assert.Equal(model.Select(pair => $"{pair.Key}={pair.Value}"), await system.RowsAsync());
        }
    }

    [Theory]
    [InlineData(true)]
    [InlineData(false)]
    public async Task Rows_against_expectation_are_put_right_and_counted(bool folded)
    {
        var form = await system.FormAsync();
        await system.RunAsync("INSERT INTO item VALUES (1, 'by somebody else')");
        await using var session = await system.Target.Tables.OpenSessionAsync("c", 1, Stop);
        var unexpected = await ApplyAsync(
            session,
            form,
            [
                new RowChange(ChangeKind.Insert, 0, default, system.Row(1, "a")),
                new RowChange(ChangeKind.Update, 0, system.Row(2, "x"), system.Row(2, "b")),
                new RowChange(ChangeKind.Delete, 0, system.Row(3, "x"), default),
            ],
            folded,
            1
        );
        Assert.Equal(3, unexpected);
        Assert.Equal(["1=a", "2=b"], await system.RowsAsync());
    }

    /// <summary>Logs of some engines tell of a row that keeps its key nothing of how it was.</summary>
    [Theory]
    [InlineData(true)]
    [InlineData(false)]
    public async Task Of_a_changed_row_it_is_enough_to_know_what_it_is_now(bool folded)
    {
        var form = await system.FormAsync();
        await using var session = await system.Target.Tables.OpenSessionAsync("c", 1, Stop);
        await ApplyAsync(
            session,
            form,
            [
                new RowChange(ChangeKind.Insert, 0, default, system.Row(1, "a")),
                new RowChange(ChangeKind.Insert, 0, default, system.Row(2, "b")),
            ],
            folded,
            1
        );
        RowChange[] changes =
        [
            new(ChangeKind.Update, 0, default, system.Row(1, "c")),
            new(ChangeKind.Update, 0, default, system.Row(2, "d")),
            new(ChangeKind.Update, 0, default, system.Row(3, "new")),
        ];
        Assert.Equal(1, await ApplyAsync(session, form, changes, folded, 2));
        Assert.Equal(["1=c", "2=d", "3=new"], await system.RowsAsync());
    }

    /// <summary>In the common form, or in the one engine's own text form that this suite can write.</summary>
    private RowBlock Block(params (long Id, string Value)[] rows)
    {
        if (system.Target.Tables.TakenForms.Contains("postgresql-copy-text"))
        {
            return new RowBlock(
                System.Text.Encoding.UTF8.GetBytes(string.Concat(rows.Select(row => $"{row.Id}\t{row.Value}\n"))),
                rows.Length,
                "postgresql-copy-text"
            );
        }

        var bytes = new System.Buffers.ArrayBufferWriter<byte>();
        foreach (var (id, value) in rows)
        {
            ChangeWriter.Write(bytes, new RowChange(ChangeKind.Insert, 0, default, system.Row(id, value)));
        }

        return new RowBlock(bytes.WrittenMemory, rows.Length);
    }

    private static RowBlock BlockOf(Row row)
    {
        var bytes = new System.Buffers.ArrayBufferWriter<byte>();
        ChangeWriter.Write(bytes, new RowChange(ChangeKind.Insert, 0, default, row));
        return new RowBlock(bytes.WrittenMemory, 1);
    }

    private static CancellationToken Stop => TestContext.Current.CancellationToken;

    private static async Task<long> ApplyAsync(
        ITargetSession session,
        TableSchema form,
        IReadOnlyList<RowChange> changes,
        bool folded,
        int position
    )
    {
        var unexpected = 0L;
        await using var transaction = await session.BeginAsync(checkReferences: true, Stop);
        if (folded)
        {
            var fold = new TableFold(form);
            foreach (var change in changes)
            {
                fold.Add(change);
            }

            unexpected = (await transaction.ApplyAsync([fold.Finish()], Stop)).Values.Sum(counts => counts.Total);
        }
        else
        {
            foreach (var change in changes)
            {
                unexpected += (await transaction.ApplyAsync(form, change, Stop)).Total;
            }
        }

        await transaction.CommitAsync(new ProgressUpdate(new LogPosition((ulong)position), []), Stop);
        return unexpected;
    }

    private RowChange Change(Random random, SortedDictionary<long, string> model)
    {
        var value = $"v{random.Next(1000)}\t'quoted\\";
        var dice = random.Next(100);
        if (model.Count == 0 || dice < 40)
        {
            long id;
            do
            {
                id = random.Next(100_000);
            } while (!model.TryAdd(id, value));
            return new RowChange(ChangeKind.Insert, 0, default, system.Row(id, value));
        }

        var (key, old) = model.ElementAt(random.Next(model.Count));
        if (dice == 99)
        {
            model.Clear();
            return new RowChange(ChangeKind.Truncate, 0, default, default);
        }

        if (dice < 75)
        {
            model[key] = value;
            return new RowChange(ChangeKind.Update, 0, system.Row(key, old), system.Row(key, value));
        }

        model.Remove(key);
        if (dice < 85 && model.TryAdd(key + 200_000, value))
        {
            return new RowChange(ChangeKind.Update, 0, system.Row(key, old), system.Row(key + 200_000, value));
        }

        return new RowChange(ChangeKind.Delete, 0, system.Row(key, old), default);
    }
}
