using Microsoft.Data.Sqlite;
using Vestige.Connectors.StandIn.Drills;
using Vestige.Connectors.StandIn.Targets;
using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;
using Xunit;

namespace Vestige.Connectors.StandIn.Tests;

/// <summary>
/// A crossing between two stand-ins through the real engine and the real spool files; both sides are compared by SQLite itself.
/// </summary>
public sealed class CrossingTests : IAsyncLifetime
{
    private const string Name = "a-to-b";
    private readonly TwoStandIns both = new();
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;
    private readonly StandInDatabase a;
    private readonly StandInDatabase b;

    public CrossingTests() => (a, b) = (both.A, both.B);

    private CrossingEngine Engine => both.Engine;

    public async ValueTask InitializeAsync()
    {
        await BeginAsync();
        await RunAsync(
            a,
            """
            CREATE TABLE author (id INTEGER PRIMARY KEY, name TEXT NOT NULL, handle TEXT UNIQUE);
            CREATE TABLE book (isbn TEXT NOT NULL, copy INTEGER NOT NULL, author_id INTEGER REFERENCES author (id) ON DELETE CASCADE,
                price REAL, cover BLOB, PRIMARY KEY (isbn, copy));
            INSERT INTO author VALUES (1, 'Ärmel, "quoted" ''name''', 'ä'), (2, '', NULL), (3, 'x', 'x3');
            INSERT INTO book VALUES ('1', 1, 1, 1.5, x''), ('1', 2, 1, -0.0, x'00ff'), ('2', 1, NULL, NULL, NULL);
            """
        );
        await Engine.DefineAsync(
            new CrossingDefinition(Name, CrossingDefinition.Copy, "a", "b", new TableRules([new TableRule(Take: "a.*")])),
            "test",
            cancellation
        );
    }

    public ValueTask DisposeAsync() => both.DisposeAsync();

    [Fact]
    public async Task Rows_are_loaded_and_changes_follow()
    {
        await Engine.RunAsync(Name, "test", cancellation);
        await SameAsync();
        await RunAsync(
            a,
            "UPDATE author SET name = 'new' WHERE id = 2; INSERT INTO author VALUES (4, 'four', '4'); DELETE FROM author WHERE id = 1"
        );
        await SameAsync();
        await RunAsync(
            a,
            "DELETE FROM book; INSERT INTO book SELECT 'n' || id, id, id, id / 3.0, NULL FROM author; UPDATE book SET isbn = 'moved' "
                + "WHERE copy = 3"
        );
        await SameAsync();
        Assert.Equal(0, Engine.Status(Name)!.Tables.Sum(table => table.Tally.Unexpected.Total));
    }

    [Fact]
    public async Task Of_a_table_taken_by_its_inserts_only_nothing_goes_and_nothing_changes()
    {
        var definition = new CrossingDefinition(
            "inserts",
            CrossingDefinition.Copy,
            "a",
            "b",
            new TableRules([new TableRule(Take: "a.*")]),
            Apply: [new ApplyRule("*.book", ApplyMode.InsertOnly)]
        );
        await Engine.DefineAsync(definition, "test", cancellation);
        var plan = await Engine.PlanAsync(definition, cancellation);
        Assert.Contains(plan.Checks, line =>
            line is { Step: "inserts only", Ok: true } && line.Found.StartsWith("a.book", StringComparison.Ordinal)
        );
        await Engine.RunAsync("inserts", "test", cancellation);
        await WaitAsync(() => Engine.Status("inserts")!.State == CrossingState.Following, "following");
        await RunAsync(
            a,
            "UPDATE book SET price = 9 WHERE isbn = '2'; DELETE FROM author WHERE id = 1; INSERT INTO author VALUES (4, 'y', NULL); "
                + "INSERT INTO book VALUES ('3', 1, 4, 2, NULL);"
        );
        await RunAsync(a, "DELETE FROM author WHERE id = 4");
        await RunAsync(a, "DELETE FROM book; INSERT INTO book VALUES ('4', 1, NULL, 4, NULL);");
        var there = new StandInTarget(b, TimeProvider.System);
        await WaitAsync(
            () => there.CountAsync(new TableName("b", "book"), null, cancellation).GetAwaiter().GetResult() == 5,
            "the inserts"
        );
        Assert.Equal(2, await there.CountAsync(new TableName("b", "author"), null, cancellation));
        Assert.Equal(CrossingState.Following, Engine.Status("inserts")!.State);
    }

    [Fact]
    public async Task Unique_values_that_swap_in_one_transaction_arrive()
    {
        await Engine.RunAsync(Name, "test", cancellation);
        await SameAsync();
        await RunAsync(
            a,
            "UPDATE author SET handle = 'tmp' WHERE id = 1; UPDATE author SET handle = 'ä' WHERE id = 3; UPDATE author SET handle = "
                + "'x3' WHERE id = 1"
        );
        await SameAsync();
    }

    /// <summary>Names and types are as before, or as those of another table; the rows are not.</summary>
    [Theory]
    [InlineData("ALTER TABLE swapped DROP COLUMN b; ALTER TABLE swapped ADD COLUMN b TEXT")]
    [InlineData("ALTER TABLE swapped RENAME TO x; ALTER TABLE other RENAME TO swapped; ALTER TABLE x RENAME TO other")]
    [InlineData("DROP TABLE swapped; CREATE TABLE swapped (id INTEGER PRIMARY KEY, a TEXT, b TEXT)")]
    [InlineData("DROP TABLE swapped")]
    [InlineData("ALTER TABLE swapped RENAME TO away")]
    public async Task A_table_that_is_no_longer_what_was_loaded_is_held(string statements)
    {
        const string Copy = "swapped-only";
        await RunAsync(
            a,
            "CREATE TABLE swapped (id INTEGER PRIMARY KEY, a TEXT, b TEXT); INSERT INTO swapped VALUES (1, 'a', 'b'); CREATE TABLE "
                + "other (id INTEGER PRIMARY KEY, a TEXT, b TEXT); INSERT INTO other VALUES (7, 'of', 'other')"
        );
        await Engine.DefineAsync(
            new CrossingDefinition(
                Copy,
                CrossingDefinition.Copy,
                "a",
                "b",
                new TableRules([new TableRule(Take: "a.swapped")], Future: false)
            ),
            "test",
            cancellation
        );
        await Engine.RunAsync(Copy, "test", cancellation);
        await WaitAsync(() => Engine.Status(Copy)!.State == CrossingState.Following, "following");
        await RunAsync(a, statements);
        await WaitAsync(() => Engine.Status(Copy)!.Tables.Any(table => table.State == TableState.Held), "the table being held");
        Assert.Equal("1 a b", Assert.Single(both.Rows("b.db", "SELECT id || ' ' || a || ' ' || b FROM swapped")).Trim('\'', '"'));
    }

    /// <summary>Whoever reads the tables does so in several steps; each look is of one moment all the same.</summary>
    [Fact]
    public async Task Tables_are_read_while_others_are_dropped_and_made()
    {
        using var ending = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
        var changing = Task.Run(
            async () =>
            {
                while (!ending.IsCancellationRequested)
                {
                    await RunAsync(a, "CREATE TABLE fleeting (id INTEGER PRIMARY KEY, a TEXT UNIQUE)");
                    await RunAsync(a, "DROP TABLE fleeting");
                }
            },
            cancellation
        );
        for (var look = 0; look < 300; look++)
        {
            var tables = await a.ReadTablesAtServerAsync(cancellation);
            Assert.All(tables.Where(table => table.Schema.Name.Name == "fleeting"), table => Assert.Equal(2, table.Schema.Columns.Count));
        }

        await ending.CancelAsync();
        await changing;
    }

    [Fact]
    public async Task A_paused_crossing_keeps_its_place_and_goes_on_there()
    {
        await Engine.RunAsync(Name, "test", cancellation);
        await SameAsync();
        await WaitAsync(() => Engine.Status(Name)!.State == CrossingState.Following, "following");
        await Engine.PauseAsync(Name, "test", cancellation);
        Assert.Equal(CrossingState.Paused, Engine.Status(Name)!.State);
        await RunAsync(a, "INSERT INTO author VALUES (9, 'while paused', NULL)");
        Assert.NotEqual(Dump("a.db"), Dump("b.db"));
        await Engine.RunAsync(Name, "test", cancellation);
        await SameAsync();
    }

    [Fact]
    public async Task A_drain_stops_when_all_that_was_captured_is_applied()
    {
        await Engine.RunAsync(Name, "test", cancellation);
        await SameAsync();
        b.Drills.Delay = TimeSpan.FromMilliseconds(40);
        for (var i = 20; i < 40; i++)
        {
            await RunAsync(a, $"INSERT INTO author VALUES ({i}, 'n{i}', NULL)");
        }

        var head = a.Head;
        await WaitAsync(() => Engine.Status(Name)!.Capture!.Spooled >= head, "capture");
        await Engine.StopAsync(Name, StopMode.Drain, "test", cancellation);
        await WaitAsync(() => Engine.Status(Name)!.State == CrossingState.Stopped, "stopped");
        Assert.Equal(Dump("a.db"), Dump("b.db"));
    }

    [Fact]
    public async Task A_stop_mark_leaves_exactly_the_state_at_that_position()
    {
        await Engine.RunAsync(Name, "test", cancellation);
        await SameAsync();

        // The rows are there a moment before the stream begins.
        await WaitAsync(() => Engine.Status(Name)!.State == CrossingState.Following, "following");
        await Engine.PauseAsync(Name, "test", cancellation);
        await RunAsync(a, "INSERT INTO author VALUES (20, 'before', NULL)");
        var mark = a.Head;
        var expected = Dump("a.db");
        await RunAsync(a, "INSERT INTO author VALUES (21, 'after', NULL)");

        // The worker cannot write until this transaction ends, so the mark is set first however busy the machine is.
        using (await b.BeginAsync(cancellation: cancellation))
        {
            await Engine.RunAsync(Name, "test", cancellation);
            await Engine.StopAtAsync(Name, new StopMark(mark), "test", cancellation);
        }

        await WaitAsync(() => Engine.Status(Name)!.State == CrossingState.Stopped, "stopped");
        Assert.Equal(expected, Dump("b.db"));
        Assert.Equal(mark, Engine.Status(Name)!.AppliedPosition);
    }

    [Fact]
    public async Task A_refused_row_stops_the_crossing_at_it_with_everything_before_it_applied()
    {
        await Engine.RunAsync(Name, "test", cancellation);
        await SameAsync();

        // The rows are there a moment before the stream begins.
        await WaitAsync(() => Engine.Status(Name)!.State == CrossingState.Following, "following");
        b.Drills.Refuse(new RefusedRow("author", "31"));
        await Engine.PauseAsync(Name, "test", cancellation);
        await RunAsync(a, "INSERT INTO author VALUES (30, 'taken', NULL)");
        await RunAsync(a, "INSERT INTO author VALUES (31, 'refused', NULL)");
        await RunAsync(a, "INSERT INTO author VALUES (32, 'waits', NULL)");
        await Engine.RunAsync(Name, "test", cancellation);
        await WaitAsync(() => Engine.Status(Name)!.State == CrossingState.Faulted, "faulted");
        var fault = Engine.Status(Name)!.Fault!;
        Assert.Equal(("a.author", "31"), (fault.Table, fault.Key));
        Assert.Contains("row refused (drill)", fault.What, StringComparison.Ordinal);
        Assert.Equal([30], Ids("b.db", "SELECT id FROM author WHERE id >= 30"));
        b.Drills.Allow(new RefusedRow("author", "31"));
        await Engine.RunAsync(Name, "test", cancellation);
        await SameAsync();
    }

    /// <summary>People find the row by the source's table, also where it is refused while it is loaded.</summary>
    [Fact]
    public async Task A_row_that_is_refused_by_a_load_is_told_by_the_sources_table()
    {
        await Engine.RunAsync(Name, "test", cancellation);
        await RunAsync(a, "INSERT INTO author VALUES (31, 'refused', NULL)");
        await SameAsync();
        await WaitAsync(() => Engine.Status(Name)!.State == CrossingState.Following, "following");
        b.Drills.Refuse(new RefusedRow("author", "31"));
        await Engine.ReloadAsync(Name, [], "test", cancellation);
        await WaitAsync(() => Engine.Status(Name)!.State == CrossingState.Faulted, "faulted");
        Assert.Equal(("a.author", "31"), (Engine.Status(Name)!.Fault!.Table, Engine.Status(Name)!.Fault!.Key));
        b.Drills.Allow(new RefusedRow("author", "31"));
        await Engine.RunAsync(Name, "test", cancellation);
        await SameAsync();
    }

    [Fact]
    public async Task A_cut_line_is_waited_out_on_either_side()
    {
        await Engine.RunAsync(Name, "test", cancellation);
        await SameAsync();
        b.Drills.ConnectionCut = true;
        await RunAsync(a, "INSERT INTO author VALUES (50, 'n', NULL)");
        await WaitAsync(() => Engine.Status(Name)!.Waiting is not null, "waiting");
        Assert.Contains("cut (drill)", Engine.Status(Name)!.Waiting!.What, StringComparison.Ordinal);
        b.Drills.ConnectionCut = false;
        await SameAsync();
        a.Drills.ConnectionCut = true;
        await RunAsync(a, "INSERT INTO author VALUES (51, 'n', NULL)");
        await WaitAsync(() => Engine.Status(Name)!.Capture is { Running: false }, "capture waits");
        await WaitAsync(() => Engine.Status(Name)!.Lag is { AtLeast: true }, "a lag of at least so much");
        a.Drills.ConnectionCut = false;
        await SameAsync();
    }

    [Fact]
    public async Task A_change_of_form_holds_that_table_alone_until_it_is_loaded_again()
    {
        await Engine.RunAsync(Name, "test", cancellation);
        await SameAsync();
        await RunAsync(a, "ALTER TABLE book ADD COLUMN shelf TEXT DEFAULT 'a'; ALTER TABLE book DROP COLUMN shelf");
        await RunAsync(a, "INSERT INTO book (isbn, copy) VALUES ('new', 1); INSERT INTO author VALUES (60, 'goes on', NULL)");
        await WaitAsync(() => Ids("b.db", "SELECT id FROM author WHERE id = 60").Count == 1, "the other table");
        var book = Engine.Status(Name)!.Tables.Single(table => table.Source.Name == "book");
        Assert.Equal(TableState.Held, book.State);
        Assert.Contains("column shelf dropped", book.Cause!, StringComparison.Ordinal);
        await Engine.ReloadAsync(Name, [new TableName("a", "book")], "test", cancellation);
        await SameAsync();
        await WaitAsync(
            () => Engine.Status(Name)!.Tables.Single(table => table.Source.Name == "book").State == TableState.Following,
            "the table following again"
        );
    }

    [Fact]
    public async Task A_log_lost_while_nobody_read_it_is_said_and_a_new_load_mends_it()
    {
        await Engine.RunAsync(Name, "test", cancellation);
        await SameAsync();
        a.Drills.ReaderStopped = true;
        await WaitAsync(() => Engine.Status(Name)!.Capture is { Running: false }, "stopped reader");
        await RunAsync(a, "INSERT INTO author VALUES (70, 'n', NULL)");
        await a.FillLogAsync(cancellation);
        a.Drills.ReaderStopped = false;
        await WaitAsync(() => Engine.Status(Name)!.State == CrossingState.Faulted, "faulted");
        Assert.True(Engine.Status(Name)!.Capture!.LostPlace);
        var fault = Engine.Status(Name)!.Fault!;
        Assert.True(fault.PlaceLost);
        Assert.Contains("no longer holds", fault.What, StringComparison.Ordinal);
        var refused = await Assert.ThrowsAsync<RequestRefusedException>(() =>
            Engine.ReloadAsync(Name, [new TableName("a", "author")], "test", cancellation)
        );
        Assert.Contains("for all tables", refused.Message, StringComparison.Ordinal);
        await Engine.ReloadAsync(Name, [], "test", cancellation);
        await SameAsync();
    }

    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public async Task What_the_spool_holds_is_applied_also_when_the_source_is_gone_for_good(bool restarted)
    {
        await Engine.RunAsync(Name, "test", cancellation);

        // The rows are there a moment before the stream begins; until then only the source can tell which tables cross.
        await WaitAsync(() => Engine.Status(Name)!.State == CrossingState.Following, "following");
        await Engine.PauseAsync(Name, "test", cancellation);
        await RunAsync(a, "INSERT INTO author VALUES (71, 'spooled', NULL)");
        await WaitAsync(() => Engine.Status(Name)!.Capture!.Spooled >= a.Head, "the spool");
        a.Drills.ReaderStopped = true;
        await WaitAsync(() => Engine.Status(Name)!.Capture is { Running: false }, "stopped reader");
        await RunAsync(a, "INSERT INTO author VALUES (72, 'lost', NULL)");
        await a.FillLogAsync(cancellation);
        a.Drills.ReaderStopped = false;
        await WaitAsync(() => Engine.Status(Name)!.Capture is { LostPlace: true }, "lost");
        if (restarted)
        {
            await Engine.DisposeAsync();
            a.Drills.ConnectionCut = true;
            await BeginAsync();
        }

        await Engine.RunAsync(Name, "test", cancellation);
        await WaitAsync(() => Ids("b.db", "SELECT id FROM author WHERE id > 70").SequenceEqual([71]), "what was spooled");
        a.Drills.ConnectionCut = false;
        await WaitAsync(() => Engine.Status(Name)!.State == CrossingState.Faulted, "faulted");
        Assert.True(Engine.Status(Name)!.Fault!.PlaceLost);
        await Engine.ReloadAsync(Name, [], "test", cancellation);
        await SameAsync();
    }

    [Fact]
    public async Task A_row_that_somebody_else_put_on_the_target_is_overwritten_and_counted()
    {
        await Engine.RunAsync(Name, "test", cancellation);
        await SameAsync();
        await RunAsync(b, "INSERT INTO author VALUES (80, 'stranger', NULL); DELETE FROM author WHERE id = 2");
        await RunAsync(a, "INSERT INTO author VALUES (80, 'ours', NULL); UPDATE author SET name = 'back' WHERE id = 2");
        await SameAsync();
        await WaitAsync(
            () => Engine.Status(Name)!.Tables.Single(table => table.Source.Name == "author").Tally.Unexpected == new ApplyCounts(1, 1),
            "counted"
        );
    }

    [Fact]
    public async Task What_would_go_wrong_is_found_before_the_start()
    {
        await RunAsync(a, "CREATE TABLE keyless (x TEXT)");
        await RunAsync(
            b,
            "CREATE TABLE author (id INTEGER PRIMARY KEY, name TEXT NOT NULL, handle TEXT UNIQUE); INSERT INTO author VALUES (1, "
                + "'there', NULL); CREATE TABLE book (other TEXT PRIMARY KEY)"
        );
        var refused = await Assert.ThrowsAsync<NotReadyException>(() => Engine.RunAsync(Name, "test", cancellation));
        Assert.Contains("no primary key", refused.Message, StringComparison.Ordinal);
        Assert.Contains("already has 1 row", refused.Message, StringComparison.Ordinal);
        Assert.Contains("its columns differ", refused.Message, StringComparison.Ordinal);
        Assert.Equal(CrossingState.Draft, Engine.Status(Name)!.State);
        Assert.Equal([1], Ids("b.db", "SELECT id FROM author"));
        var missing = new CrossingDefinition(
            "missing",
            CrossingDefinition.Copy,
            "a",
            "b",
            new TableRules([new TableRule(Take: "a.nowhere")])
        );
        Assert.Contains((await Engine.PlanAsync(missing, cancellation)).Checks, line =>
            !line.Ok && line.Found.Contains("no such table", StringComparison.Ordinal)
        );
    }

    [Fact]
    public async Task Loading_while_the_source_is_worked_on_loses_and_doubles_nothing()
    {
        await RunAsync(
            a,
            "WITH RECURSIVE n (i) AS (SELECT 100 UNION ALL SELECT i + 1 FROM n WHERE i < 60000) INSERT INTO author SELECT i, 'author "
                + "' || i, 'h' || i FROM n"
        );
        using var stop = new CancellationTokenSource();
        var work = WorkAsync(stop.Token);
        await Engine.RunAsync(Name, "test", cancellation);
        await WaitAsync(() => Engine.Status(Name)!.State == CrossingState.Following, "following");
        await stop.CancelAsync();
        await work;
        await SameAsync();
        Assert.Equal(0, Engine.Status(Name)!.Tables.Sum(table => table.Tally.Unexpected.Total));
    }

    private async Task WorkAsync(CancellationToken stop)
    {
        await Task.Yield();
        var random = new Random(7);
        for (var i = 0; !stop.IsCancellationRequested; i++)
        {
            using var transaction = await a.BeginAsync(cancellation: CancellationToken.None);
            transaction.Run("UPDATE author SET name = ? WHERE id = ?", $"changed {i}", random.Next(100, 60000));
            transaction.Run("DELETE FROM author WHERE id = ?", random.Next(100, 60000));
            transaction.Run("INSERT OR REPLACE INTO author VALUES (?, ?, NULL)", random.Next(50000, 70000), $"made {i}");
            transaction.Commit();
        }
    }

    private Task BeginAsync() => both.BeginAsync();

    private Task RunAsync(StandInDatabase database, string statement) => both.RunAsync(database, statement);

    private Task SameAsync() => WaitAsync(() => Dump("a.db") == Dump("b.db"), "the same rows on both sides");

    private Task WaitAsync(Func<bool> holds, string what) => both.WaitAsync(holds, what);

    /// <summary>All rows as SQLite's own quote() writes them; both tables, or nothing while one is missing.</summary>
    private string Dump(string file)
    {
        try
        {
            var columns = Ids(file, "SELECT count(*) FROM pragma_table_info('book')")[0] > 5 ? ", quote(shelf)" : "";
            return string.Join(
                '\n',
                both.Rows(file, "SELECT quote(id) || quote(name) || quote(handle) FROM author ORDER BY id")
                    .Concat(
                        both.Rows(
                            file,
                            $"SELECT concat_ws(' ', quote(isbn), quote(copy), quote(author_id), quote(price), quote(cover){columns}) "
                                + "FROM book ORDER BY isbn, copy"
                        )
                    )
            );
        }
        catch (SqliteException)
        {
            return file;
        }
    }

    private List<int> Ids(string file, string sql) => [.. both.Rows(file, sql).Select(int.Parse)];
}
