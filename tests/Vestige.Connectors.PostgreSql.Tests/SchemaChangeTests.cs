using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>
/// What is done to tables while they are followed. The log tells names and types only, so each of these would leave a copy that is
/// wrong: the table is held, the others go on, and a load brings it back.
/// </summary>
public sealed class SchemaChangeTests(TwoServers servers)
{
    private const string Tables = """
        CREATE TYPE mood AS ENUM ('sad', 'happy');
        CREATE TYPE place AS (town text, street text);
        CREATE TABLE t (id int PRIMARY KEY, a text, b text, n int, m mood, p place, last text);
        INSERT INTO t SELECT i, 'a' || i, 'b' || i, i, 'sad', ROW('town', 'street')::place, 'last' FROM generate_series(1, 50) i;
        CREATE TABLE u (id int PRIMARY KEY, a text, b text, n int, m mood, p place, last text);
        INSERT INTO u SELECT i, 'other' || i, 'b' || i, i, 'sad', NULL, 'last' FROM generate_series(1, 50) i;
        CREATE TABLE beside (id int PRIMARY KEY, v text);
        """;

    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    public static TheoryData<string, string, string, bool> Held { get; } =
        Each(
            (
                "swapped columns",
                "ALTER TABLE t RENAME a TO x§ALTER TABLE t RENAME b TO a§ALTER TABLE t RENAME x TO b",
                "column a was renamed to b|column a was renamed to x"
            ),
            (
                "swapped in one transaction",
                "BEGIN; ALTER TABLE t RENAME a TO x; ALTER TABLE t RENAME b TO a; ALTER TABLE t RENAME x TO b; UPDATE t SET a = "
                    + "'after' WHERE id = 1; COMMIT",
                "column b was renamed to a"
            ),
            (
                "dropped and added",
                "ALTER TABLE t DROP last§ALTER TABLE t ADD last text",
                "column last was dropped and added again|column last was dropped"
            ),
            (
                "dropped and added in one transaction",
                "BEGIN; ALTER TABLE t DROP last; ALTER TABLE t ADD last text; COMMIT",
                "column last was dropped and added again"
            ),
            (
                "dropped and added in one statement",
                "ALTER TABLE t DROP last, ADD last text§UPDATE t SET last = 'new' WHERE id = 2",
                "column last was dropped and added again"
            ),
            ("added with a value for each row", "ALTER TABLE t ADD c float DEFAULT random()", "column c was added"),
            ("dropped", "ALTER TABLE t DROP a", "column a was dropped"),
            ("another type", "ALTER TABLE t ALTER n TYPE bigint", "the type of column n changed from integer to bigint"),
            ("rewritten under the same type", "ALTER TABLE t ALTER n TYPE int USING n * 2", "its rows were rewritten"),
            (
                "rewritten, then changed",
                "ALTER TABLE t ALTER n TYPE int USING n + 1§UPDATE t SET a = 'after' WHERE id = 3",
                "its rows were rewritten"
            ),
            ("generated column", "ALTER TABLE t ADD g int GENERATED ALWAYS AS (n * 2) STORED", "generated column g was added"),
            (
                "two tables swapped",
                "ALTER TABLE t RENAME TO x§ALTER TABLE u RENAME TO t§ALTER TABLE x RENAME TO u",
                "another table has its name now|it was renamed to"
            ),
            (
                "two tables swapped, then changed",
                "BEGIN; ALTER TABLE t RENAME TO x; ALTER TABLE u RENAME TO t; ALTER TABLE x RENAME TO u; COMMIT§UPDATE t SET a = "
                    + "'after'§UPDATE u SET a = 'after, too'",
                "another table has its name now"
            ),
            (
                "renamed away, another made",
                "ALTER TABLE t RENAME TO old§CREATE TABLE t (LIKE old INCLUDING ALL)§INSERT INTO t VALUES (1, 'new')",
                "another table has its name now|it was renamed to"
            ),
            (
                "dropped and created",
                "DROP TABLE t§CREATE TABLE t (id int PRIMARY KEY, a text, b text, n int, m mood, p place, last text)§INSERT INTO t "
                    + "VALUES (7, 'new')",
                "it was dropped, and another table has its name now|it was dropped"
            ),
            ("a label renamed", "ALTER TYPE mood RENAME VALUE 'sad' TO 'blue'", "sad of its type public.mood was renamed to blue"),
            ("an attribute renamed", "ALTER TYPE place DROP ATTRIBUTE street", "street text of its type public.place was dropped"),
            ("key dropped", "ALTER TABLE t DROP CONSTRAINT t_pkey§UPDATE t SET a = 'must not fail' WHERE id = 4", "its key was dropped"),
            ("no replica identity", "ALTER TABLE t REPLICA IDENTITY NOTHING", "it has no replica identity any more"),
            (
                "taken out of the publication",
                "ALTER PUBLICATION {0} DROP TABLE t§UPDATE t SET a = 'unseen'",
                "it was taken out of the publication"
            ),
            (
                "taken out and put back",
                "ALTER PUBLICATION {0} DROP TABLE t§UPDATE t SET a = 'unseen'§ALTER PUBLICATION {0} ADD TABLE t",
                "it was taken out of the publication"
            )
        );

    [Theory]
    [MemberData(nameof(Held))]
    public async Task What_the_log_does_not_show_holds_the_table_and_no_other(string what, string statements, string said, bool isAway)
    {
        Assert.NotEmpty(what);
        var (a, b) = await BothAsync();
        await using var crossing = await Crossing.StartAsync(a, b, "public.t", "public.u", "public.beside");
        await crossing.FollowsAsync();
        await RunAsync(crossing, isAway, statements);
        await crossing.UntilAsync(() => Cause(crossing, "t") is not null, "the table being held");
        var cause = Cause(crossing, "t")!;

        // Where several transactions follow each other, a look may come between them.
        Assert.Contains(said.Split('|')[..(isAway ? 1 : ^0)], one => cause.Contains(one, StringComparison.Ordinal));
        await a.RunAsync("INSERT INTO beside VALUES (7, 'goes on')");
        await crossing.SameAsync("beside");
        Assert.Null(crossing.Status.Fault);
        if (said.StartsWith("it has no replica", StringComparison.Ordinal) || said.StartsWith("its key was", StringComparison.Ordinal))
        {
            await a.RunAsync(
                "UPDATE t SET a = 'takes updates'; ALTER TABLE t "
                    + $"{(said.StartsWith("its key", StringComparison.Ordinal) ? "ADD PRIMARY KEY (id)" : "REPLICA IDENTITY DEFAULT")}"
            );
        }

        if (statements.Contains("ATTRIBUTE", StringComparison.Ordinal))
        {
            await b.RunAsync(statements);
        }

        await ReloadAsync(
            a,
            crossing,
            [.. crossing.Status.Tables.Where(table => table.State == TableState.Held).Select(table => table.Source)]
        );
        await crossing.SameAsync(ByName("t"), ByName("u"));
        await a.RunAsync("INSERT INTO t (id, b) VALUES (500, 'seen again'); UPDATE t SET b = 'and changed' WHERE id = 500");
        await crossing.SameAsync(ByName("t"));
        Assert.Null(Cause(crossing, "t"));
    }

    /// <summary>A snapshot shows rows as they were and columns as they are now. The load begins again, and no person is asked.</summary>
    [Fact]
    public async Task A_table_that_is_changed_while_it_is_loaded_is_loaded_again()
    {
        var (a, _) = await BothAsync();
        var source = new PostgreSqlConnector(a.Settings(), a.Names, TimeProvider.System).Find<IRowSource>()!;
        await using var snapshot = await source.OpenSnapshotAsync(1, 0, cancellation);
        var table = (await snapshot.ReadTablesAsync(cancellation)).Single(found => found.Schema.Name.Name == "t").Schema;
        await a.RunAsync("ALTER TABLE t RENAME last TO other");
        var exception = await Assert.ThrowsAsync<PortException>(async () =>
        {
            await foreach (var _ in snapshot.ReadAsync(table, default, new HashSet<string>(), cancellation)) { }
        });
        Assert.True(exception.Transient);
        Assert.Contains("was changed while it was read", exception.Message, StringComparison.Ordinal);
    }

    /// <summary>All in turn, while they are read and while nothing is; a table that is held says by which of them.</summary>
    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public async Task What_changes_no_row_goes_on(bool isAway)
    {
        var (a, b) = await BothAsync();
        await a.RunAsync(
            "CREATE TABLE w (id int PRIMARY KEY, v text); INSERT INTO w SELECT i, 'v' FROM generate_series(1, 20) i; ALTER TABLE w "
                + "ADD c int DEFAULT 5; UPDATE t SET n = id"
        );
        await using var crossing = await Crossing.StartAsync(a, b, "public.t", "public.w", "public.beside");
        await crossing.FollowsAsync();
        await a.RunAsync("UPDATE t SET b = 'once' WHERE id = 5");
        foreach (
            var statements in new[]
            {
                "VACUUM FULL t§CLUSTER t USING t_pkey",
                "VACUUM FULL w",
                "ALTER TABLE t ALTER n SET STATISTICS 100§VACUUM FULL t",
                "ALTER TABLE t ALTER a SET DEFAULT 'x'§ALTER TABLE t ALTER n SET NOT NULL§VACUUM FULL t§UPDATE t SET b = 'again' "
                    + "WHERE id = 6",
                "VACUUM t§ANALYZE t§CREATE INDEX ON t (a)§ALTER TABLE t SET (fillfactor = 90)§CREATE TABLE t_other (id int)",
                "ALTER TABLE t REPLICA IDENTITY FULL§UPDATE t SET b = 'with the whole row' WHERE id = 7",
                "ALTER TYPE mood ADD VALUE 'calm'§CREATE TYPE another AS ENUM ('x')§ALTER TYPE another RENAME VALUE 'x' TO 'y'",
                "TRUNCATE t§INSERT INTO t (id, n) VALUES (1, 1)",
            }
        )
        {
            await RunAsync(crossing, isAway, statements);
            await crossing.SameAsync("t", "w");
            await Task.Delay(TimeSpan.FromSeconds(isAway ? 0.5 : 4), cancellation);
        }

        await Task.Delay(TimeSpan.FromSeconds(4), cancellation);
        await a.RunAsync("UPDATE t SET b = 'later'; UPDATE w SET v = 'later' WHERE id = 1");
        await crossing.SameAsync("t", "w");
        Assert.Null(Cause(crossing, "t"));
        Assert.Null(Cause(crossing, "w"));
    }

    [Theory]
    [InlineData("DROP TABLE t", "it was dropped")]
    [InlineData(
        "ALTER TABLE t RENAME TO elsewhere§INSERT INTO elsewhere (id, a) VALUES (200, 'under another name')",
        "it was renamed to public.elsewhere"
    )]
    [InlineData("CREATE SCHEMA away; ALTER TABLE t SET SCHEMA away§UPDATE away.t SET a = 'elsewhere'", "it was renamed to away.t")]
    public async Task A_table_that_is_gone_is_held_and_listed_by_a_comparison(string statements, string said)
    {
        var (a, b) = await BothAsync();
        await using var crossing = await Crossing.StartAsync(a, b, "public.t", "public.beside");
        await crossing.FollowsAsync();
        await RunAsync(crossing, false, statements);
        await crossing.UntilAsync(() => Cause(crossing, "t") is not null, "the table being held");
        Assert.Contains(said, Cause(crossing, "t"), StringComparison.Ordinal);
        await a.RunAsync("INSERT INTO beside VALUES (7, 'goes on')");
        await crossing.SameAsync("beside");
        var found = await crossing.CompareAsync();
        var gone = Assert.Single(found.Tables, table => table.Source == new TableName("public", "t"));
        Assert.NotNull(gone.Reason);
        Assert.True(Assert.Single(found.Tables, table => table.Source == new TableName("public", "beside")).IsEqual);
    }

    /// <summary>With nothing wanted of an older name, rows of a table that was there before under that name are not mixed in.</summary>
    [Fact]
    public async Task A_change_while_the_spool_holds_a_backlog_holds_the_table_at_or_before_it()
    {
        var (a, b) = await BothAsync();
        await using var crossing = await Crossing.StartAsync(a, b, "public.t", "public.u", "public.beside");
        await crossing.FollowsAsync();
        await crossing.Engine.PauseAsync(Crossing.Name, "test", cancellation);
        await a.RunAsync("UPDATE t SET a = 'before'; INSERT INTO beside VALUES (1, 'before')");
        await a.RunAsync(
            "ALTER TABLE t RENAME a TO x; ALTER TABLE t RENAME b TO a; ALTER TABLE t RENAME x TO b; UPDATE t SET a = 'after'; INSERT "
                + "INTO beside VALUES (2, 'after')"
        );
        await crossing.Engine.RunAsync(Crossing.Name, "test", cancellation);
        await crossing.SameAsync("beside");
        await crossing.UntilAsync(() => Cause(crossing, "t") is not null, "the table being held");
        Assert.Equal("0", await b.AskAsync("SELECT count(*) FROM t WHERE a = 'after' OR b = 'before'"));
    }

    /// <summary>A label that was added changes no row; one that a row then has is not known to the target, and is asked for.</summary>
    [Fact]
    public async Task A_label_is_added_on_the_target_at_its_place_when_a_row_has_it()
    {
        var (a, b) = await BothAsync();
        await using var crossing = await Crossing.StartAsync(a, b, "public.t", "public.u", "public.beside");
        await crossing.FollowsAsync();
        await a.RunAsync(
            "ALTER TYPE mood ADD VALUE 'calm' BEFORE 'happy'; ALTER TYPE mood ADD VALUE 'it''s' BEFORE 'calm'; "
                + "ALTER TYPE mood ADD VALUE 'last'"
        );
        await a.RunAsync("INSERT INTO beside VALUES (1, 'in the same transaction'); UPDATE t SET m = 'calm' WHERE id = 3");
        await a.RunAsync("UPDATE u SET m = 'it''s'; UPDATE t SET m = 'last' WHERE id = 4");
        await crossing.SameAsync("beside", "u", "t");
        Assert.Null(Cause(crossing, "t"));
        const string Labels = "SELECT string_agg(enumlabel, ',' ORDER BY enumsortorder) FROM pg_enum WHERE enumtypid = 'mood'::regtype";
        Assert.Equal("sad,it's,calm,happy,last", await b.AskAsync(Labels));
    }

    [Fact]
    public async Task A_row_with_a_label_that_the_target_lacks_holds_its_table_where_a_rule_says_so()
    {
        var (a, b) = await BothAsync();
        var definition = new CrossingDefinition(
            Crossing.Name,
            CrossingDefinition.Copy,
            "a",
            "b",
            new TableRules([new TableRule(Take: "public.*")]),
            SchemaChanges: [new SchemaChangeRule("*", SchemaChangeAction.Hold, [SchemaChangeKind.LabelAdded])]
        );
        await using var crossing = await Crossing.StartAsync(a, b, definition);
        await crossing.FollowsAsync();
        await a.RunAsync("ALTER TYPE mood ADD VALUE 'calm'");
        await a.RunAsync(
            "INSERT INTO beside VALUES (1, 'in the same transaction'); UPDATE u SET a = 'before'; UPDATE t SET m = 'calm' WHERE id = "
                + "3; INSERT INTO beside VALUES (2, 'and after it')"
        );
        await crossing.UntilAsync(() => Cause(crossing, "t") is not null, "the table being held");
        Assert.Contains("has grown at the source", Cause(crossing, "t"), StringComparison.Ordinal);
        await crossing.SameAsync("beside", "u");
        Assert.Null(crossing.Status.Fault);
        await b.RunAsync("ALTER TYPE mood ADD VALUE 'calm'");
        await crossing.Engine.Held.AgreeAsync(Crossing.Name, [new TableName("public", "t")], "test", cancellation);
        await crossing.SameAsync("t");
        await a.RunAsync("UPDATE u SET m = 'calm'; UPDATE t SET m = 'calm'");
        await crossing.SameAsync("t", "u");
    }

    [Fact]
    public async Task A_load_that_cannot_be_made_stops_nothing_and_views_under_a_pattern_are_left_out()
    {
        var (a, b) = await BothAsync();
        await a.RunAsync("CREATE VIEW seen AS SELECT * FROM t");
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        Assert.DoesNotContain(crossing.Status.Tables, table => table.Source.Name == "seen");
        await a.RunAsync("DROP TABLE u");
        var refused = await Assert.ThrowsAsync<RequestRefusedException>(() =>
            crossing.Engine.ReloadAsync(Crossing.Name, [new TableName("public", "u")], "test", cancellation)
        );
        Assert.Contains("no table public.u", refused.Message, StringComparison.Ordinal);
        await a.RunAsync("INSERT INTO beside VALUES (1, 'goes on')");
        await crossing.SameAsync("beside");
        Assert.Equal(CrossingState.Following, crossing.Status.State);
    }

    /// <summary>The source's own updates must not fail for longer than it takes to notice.</summary>
    [Theory]
    [InlineData("ALTER TABLE t DROP CONSTRAINT t_pkey")]
    [InlineData("ALTER TABLE t REPLICA IDENTITY NOTHING")]
    [InlineData(
        "CREATE UNIQUE INDEX other ON u (id); ALTER TABLE u REPLICA IDENTITY USING INDEX other; ALTER TABLE t ALTER id SET NOT NULL; "
            + "CREATE UNIQUE INDEX mine ON t (id); ALTER TABLE t REPLICA IDENTITY USING INDEX mine; DROP INDEX mine"
    )]
    public async Task A_table_whose_updates_would_fail_is_no_longer_published(string statement)
    {
        var (a, b) = await BothAsync();
        await using var crossing = await Crossing.StartAsync(a, b, "public.t", "public.beside");
        await crossing.FollowsAsync();
        await a.RunAsync(statement);
        var until = DateTimeOffset.UtcNow.AddSeconds(60);
        while (true)
        {
            try
            {
                await a.RunAsync("UPDATE t SET a = 'taken'");
                break;
            }
            catch (Npgsql.PostgresException exception) when (exception.SqlState == "55000" && DateTimeOffset.UtcNow < until)
            {
                await Task.Delay(100, cancellation);
            }
        }

        await crossing.UntilAsync(() => Cause(crossing, "t") is not null, "the table being held");
        Assert.Contains("replica identity", Cause(crossing, "t"), StringComparison.Ordinal);
    }

    /// <summary>
    /// A commit is in the log before others can see what it did: here for as long as it waits for a standby that does not exist.
    /// </summary>
    [Theory]
    [InlineData(true, "column last was dropped and added again")]
    [InlineData(false, "column last was dropped and added again")]
    public async Task Rows_behind_a_change_wait_until_the_change_can_be_seen(bool isSoon, string said)
    {
        await using var server = await Cluster.StartAsync();
        var (a, b) = (await server.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(Tables);
        await using var crossing = await Crossing.StartAsync(a, b, "public.t", "public.beside");
        await crossing.FollowsAsync();
        await a.RunAsync("ALTER SYSTEM SET synchronous_standby_names = 'nobody'");
        await a.AskAsync("SELECT pg_reload_conf()::text");
        var change = a.RunAsync(
            "BEGIN; ALTER TABLE t DROP last; ALTER TABLE t ADD last text; UPDATE t SET last = 'new' WHERE id = 1; COMMIT"
        );
        await Task.Delay(isSoon ? 700 : 5000, cancellation);
        var before = await b.AskAsync("SELECT last FROM t WHERE id = 1");
        await a.RunAsync("ALTER SYSTEM RESET synchronous_standby_names");
        await a.AskAsync("SELECT pg_reload_conf()::text");
        await change;
        await crossing.UntilAsync(() => Cause(crossing, "t") is not null, "the table being held");
        Assert.Contains(said, Cause(crossing, "t"), StringComparison.Ordinal);
        if (isSoon)
        {
            Assert.Equal(("last", "last"), (before, await b.AskAsync("SELECT last FROM t WHERE id = 1")));
        }

        await ReloadAsync(a, crossing, [new TableName("public", "t")]);
        await crossing.SameAsync(ByName("t"), "beside");
    }

    /// <summary>The server itself says of which it takes no update.</summary>
    [Fact]
    public async Task Tables_whose_updates_fail_are_found_by_one_question()
    {
        var a = await servers.A.MakeDatabaseAsync();
        string[] tables = ["keyed", "bare", "full", "nothing", "by_index", "index_dropped", "deferrable", "parted", "half_parted"];
        await a.RunAsync(
            """
            CREATE TABLE keyed (id int PRIMARY KEY, v int); CREATE TABLE bare (id int, v int);
            CREATE TABLE "full" (id int, v int); ALTER TABLE "full" REPLICA IDENTITY FULL;
            CREATE TABLE nothing (id int PRIMARY KEY, v int); ALTER TABLE nothing REPLICA IDENTITY NOTHING;
            CREATE TABLE by_index (id int NOT NULL UNIQUE, v int); ALTER TABLE by_index REPLICA IDENTITY USING INDEX by_index_id_key;
            CREATE TABLE index_dropped (LIKE by_index INCLUDING ALL);
            ALTER TABLE index_dropped REPLICA IDENTITY USING INDEX index_dropped_id_key;
            ALTER TABLE index_dropped DROP CONSTRAINT index_dropped_id_key;
            CREATE TABLE "deferrable" (id int PRIMARY KEY DEFERRABLE, v int);
            CREATE TABLE parted (id int PRIMARY KEY, v int) PARTITION BY RANGE (id);
            CREATE TABLE parted_1 PARTITION OF parted FOR VALUES FROM (0) TO (10);
            CREATE TABLE half_parted (id int PRIMARY KEY, v int) PARTITION BY RANGE (id);
            CREATE TABLE half_parted_1 PARTITION OF half_parted FOR VALUES FROM (0) TO (10);
            ALTER TABLE half_parted_1 REPLICA IDENTITY NOTHING;
            """
        );
        await a.RunAsync(
            $"CREATE PUBLICATION p FOR TABLE {string.Join(", ", tables.Select(table => $"\"{table}\""))} WITH "
                + "(publish_via_partition_root = true)"
        );
        var refused = new List<string>();
        foreach (var table in tables)
        {
            try
            {
                await a.RunAsync($"INSERT INTO \"{table}\" VALUES (1, 1); UPDATE \"{table}\" SET v = 2");
            }
            catch (Npgsql.PostgresException exception) when (exception.SqlState == "55000")
            {
                refused.Add(table);
            }
        }

        await using var connection = await a.OpenAsync();
        var found = (await Log.Publication.FailingAsync(connection, "p", cancellation)).Select(table => table.Name);
        Assert.Equal(refused.Order(StringComparer.Ordinal), found.Order(StringComparer.Ordinal));
        Assert.Equal(["bare", "deferrable", "half_parted", "index_dropped", "nothing"], refused.Order(StringComparer.Ordinal));
    }

    /// <summary>A load fills the table that is there, whose columns may be in another order by then.</summary>
    private static string ByName(string table) => $"(SELECT to_jsonb({table}) FROM {table})";

    private static TheoryData<string, string, string, bool> Each(params (string What, string Statements, string Said)[] cases)
    {
        var data = new TheoryData<string, string, string, bool>();
        for (var i = 0; i < cases.Length; i++)
        {
            // Half of them while nothing is read, and both where a description in the log decides.
            data.Add(cases[i].What, cases[i].Statements, cases[i].Said, i % 2 == 1);
            if (cases[i].Statements.Contains("UPDATE t", StringComparison.Ordinal))
            {
                data.Add(cases[i].What, cases[i].Statements, cases[i].Said, i % 2 == 0);
            }
        }

        return data;
    }

    private static string? Cause(Crossing crossing, string table) =>
        crossing.Status.Tables.FirstOrDefault(one => one.Source.Name == table && one.State == TableState.Held)?.Cause;

    private static async Task RunAsync(Crossing crossing, bool isAway, string statements)
    {
        if (isAway)
        {
            await crossing.EndAsync();
        }

        foreach (var statement in statements.Split('§'))
        {
            try
            {
                await crossing.From.RunAsync(statement.Replace("{0}", crossing.From.Names.Publication, StringComparison.Ordinal));
            }
            catch (Npgsql.PostgresException exception)
                when (exception.SqlState == "55000" && statement.Contains("must not fail", StringComparison.Ordinal))
            {
                // Before it was noticed; the test of what it is about looks at that.
            }
        }

        if (isAway)
        {
            await crossing.BeginAsync();
        }
    }

    /// <summary>
    /// A table may have been published again, for its inserts only, before it had a replica identity. Then the refusal says what to run,
    /// and that is run, as a person would.
    /// </summary>
    private async Task ReloadAsync(Database source, Crossing crossing, IReadOnlyList<TableName> tables)
    {
        try
        {
            await crossing.Engine.ReloadAsync(Crossing.Name, tables, "test", cancellation);
        }
        catch (RequestRefusedException exception)
        {
            Assert.StartsWith("ALTER PUBLICATION ", exception.Remedy, StringComparison.Ordinal);
            await source.RunAsync(exception.Remedy);
            await crossing.Engine.ReloadAsync(Crossing.Name, tables, "test", cancellation);
        }
    }

    private async Task<(Database From, Database To)> BothAsync()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(Tables);
        return (a, b);
    }
}
