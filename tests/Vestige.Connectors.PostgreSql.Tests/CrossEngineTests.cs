using System.Globalization;
using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Connectors.StandIn;
using Vestige.Connectors.StandIn.Bench;
using Vestige.Core.Crossings;
using Vestige.Core.Reconciling;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Reconciling;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>Crossings between a server and a stand-in, both ways: what arrives, what is refused, and what comparing finds.</summary>
public sealed class CrossEngineTests(TwoServers servers) : IDisposable
{
    private const string Kinds = """
        CREATE TABLE branch (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE);
        CREATE TABLE item (id INTEGER PRIMARY KEY, branch INTEGER NOT NULL REFERENCES branch (id), price NUMERIC, weight REAL,
            lent BOOLEAN, made DATE, seen TIMESTAMP, code TEXT, picture BLOB, about JSON);
        CREATE TABLE word (w TEXT NOT NULL, made DATE NOT NULL, n INTEGER, PRIMARY KEY (made, w));
        CREATE TABLE tally (n INTEGER PRIMARY KEY, v TEXT);
        """;

    private const string Rows = """
        INSERT INTO branch WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 20) SELECT i, 'branch ' || i FROM n;
        INSERT INTO item WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 3000)
          SELECT i, 1 + i % 20, i / 8.0, i * 1.1e-3, i % 2, date('2024-02-28', '+' || i || ' days'), datetime('2024-12-31 23:59:59',
              '+' || i || ' hours'),
            CASE i % 5 WHEN 0 THEN '' WHEN 1 THEN NULL WHEN 2 THEN 'a "b", (c)\' WHEN 3 THEN char(233, 9, 10) ELSE 'code ' || i END,
                randomblob(i % 9), '{"b": 1, "a": ' || i || '.10}' FROM n;
        INSERT INTO word WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n
            WHERE i < 1500) SELECT 'w' || i, date('2026-01-01', '+' || (i % 9) || ' days'), i FROM n;
        """;

    private readonly string folder = Directory.CreateTempSubdirectory("vestige-unlike-").FullName;
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    public void Dispose() => Directory.Delete(folder, recursive: true);

    [Fact]
    public async Task Rows_of_a_stand_in_arrive_on_the_server_with_their_keys_and_follow()
    {
        var (b, here) = (await servers.B.MakeDatabaseAsync(), StandIn("stock"));
        await RunAsync(here, Kinds.Replace("CREATE TABLE tally (n INTEGER PRIMARY KEY, v TEXT);", "", StringComparison.Ordinal) + Rows);
        await using var crossing = await Crossing.StartAsync(here, ServerOf(b), Definition("stock.*"));
        await crossing.FollowsAsync();
        Assert.Equal("1|branch 1", await b.AskAsync("SELECT id || '|' || name FROM stock.branch WHERE id = 1"));
        Assert.Equal(
            "bigint bigint numeric double precision boolean date timestamp without time zone text bytea json",
            await b.AskAsync(
                "SELECT string_agg(format_type(atttypid, atttypmod), ' ' ORDER BY attnum) FROM pg_attribute WHERE attrelid = "
                    + "'stock.item'::regclass AND attnum > 0"
            )
        );
        Assert.Equal(
            "FOREIGN KEY (branch) REFERENCES stock.branch(id); PRIMARY KEY (id); PRIMARY KEY (id); PRIMARY KEY (made, w); UNIQUE (name)",
            await b.AskAsync(
                "SELECT string_agg(pg_get_constraintdef(oid), '; ' ORDER BY pg_get_constraintdef(oid)) FROM pg_constraint WHERE "
                    + "connamespace = 'stock'::regnamespace"
            )
        );
        Assert.Equal(
            "3000 562687.50 1500 2032-05-16 2025-05-05 23:59:59",
            await b.AskAsync(
                "SELECT count(*) || ' ' || sum(price)::numeric(12,2) || ' ' || count(*) FILTER (WHERE lent) || ' ' || max(made) || ' "
                    + "' || max(seen) FROM stock.item"
            )
        );
        await RunAsync(
            here,
            """
            UPDATE item SET id = id + 10000 WHERE id % 100 = 0; DELETE FROM item
                WHERE id % 100 = 1; UPDATE item SET code = NULL, picture = x'00ff', price = -0.125, lent = 1 - lent WHERE id % 100 = 2;
            INSERT INTO item (id, branch, about) VALUES (9000, 3, '[]'); UPDATE word SET w = 'moved ' || w
                WHERE n < 10; DELETE FROM word WHERE n BETWEEN 10 AND 20;
            """
        );
        await UntilEqualAsync(crossing);
        Assert.Equal(
            "2971 30 true",
            await b.AskAsync(
                "SELECT count(*) || ' ' || count(*) FILTER (WHERE id > 10000) || ' ' || bool_and(picture = '\\x00ff' AND code IS NULL "
                    + "AND price = -0.125) FILTER (WHERE id % 100 = 2) FROM stock.item"
            )
        );
        await crossing.EndAsync();
        await RunAsync(here, "DELETE FROM item WHERE id > 10500; UPDATE branch SET name = 'other ' || id");
        await crossing.BeginAsync();
        await UntilEqualAsync(crossing);
        await RunAsync(here, "DELETE FROM item");
        await UntilEqualAsync(crossing);
        Assert.Equal("0", await b.AskAsync("SELECT count(*) FROM stock.item"));
    }

    [Fact]
    public async Task Every_kind_of_difference_is_found_on_the_server_repaired_and_taken_back()
    {
        var (b, here) = (await servers.B.MakeDatabaseAsync(), StandIn("stock"));
        await RunAsync(here, Kinds + Rows + "INSERT INTO tally VALUES (1, 'a'), (2, NULL);");
        await using var crossing = await Crossing.StartAsync(
            here,
            ServerOf(b),
            Definition("stock.*", new ApplyRule("*.tally", ApplyMode.InsertOnly))
        );
        await crossing.FollowsAsync();
        var equal = await crossing.CompareAsync();
        Assert.All(equal.Tables.Where(table => table.Into.Name != "tally"), table =>
            Assert.True(table.IsEqual, $"{table.Into}: {table.Reason}")
        );
        Assert.Contains("only its inserts", equal.Tables.Single(table => table.Into.Name == "tally").Reason, StringComparison.Ordinal);

        // Equal by definition: zeros at the end of a number, the same JSON otherwise written.
        await b.RunAsync(
            "UPDATE stock.item SET price = price * 1.000; UPDATE stock.item SET about = ('{\"a\": ' || id || '.1, \"b\": 1.0}')::json"
        );
        Assert.True((await crossing.CompareAsync()).IsEqualBut("tally"));
        Dictionary<long, (string Set, string Column)> planted = new()
        {
            [3] = ("price = price + 0.0000000000000000000001", "price"),
            [4] = ("weight = weight * (1 + 2.3e-16)", "weight"),
            [5] = ("lent = NOT lent", "lent"),
            [6] = ("made = made + 1", "made"),
            [7] = ("seen = seen + interval '1 microsecond'", "seen"),
            [9] = ("code = code || ' '", "code"),
            [10] = ("code = NULL", "code"),
            [11] = ("code = ''", "code"),
            [13] = ("code = 'e' || chr(769) || E'\\t\\n'", "code"),
            [17] = ("picture = picture || '\\x00'", "picture"),
            [18] = ("about = '{\"b\": 1, \"a\": 18.1000000000000000000000001}'", "about"),
            [19] = ("about = NULL", "about"),
            [20] = ("weight = 'NaN'", "weight"),
            [21] = ("price = 'NaN'", "price"),
        };
        foreach (var (id, (set, _)) in planted)
        {
            await b.RunAsync($"UPDATE stock.item SET {set} WHERE id = {id}");
        }

        await b.RunAsync(
            """
            DELETE FROM stock.item WHERE id = 50; INSERT INTO stock.item (id, branch) VALUES (5000, 1);
            UPDATE stock.item x SET code = y.code FROM stock.item y WHERE (x.id, y.id) IN ((62, 64), (64, 62));
            UPDATE stock.word SET n = -1 WHERE (made, w) = ('2026-01-03', 'w2'); DELETE FROM stock.word WHERE w = 'w10';
            """
        );
        var found = await crossing.CompareAsync();
        var item = found.Tables.Single(table => table.Into.Name == "item");
        var columns = item
            .Rows.Where(row => row.Kind == DifferenceKind.Differing)
            .ToDictionary(row => row.SourceKey.IntegerAt(0), row => string.Join(',', row.Columns));
        Assert.Equal((1L, 1L, "5000"), (item.Missing, item.Extra, item.Rows.Single(row => row.Kind == DifferenceKind.Extra).Key.TextAt(0)));
        Assert.Equal(planted.Keys.Concat([62L, 64L]).Order(), columns.Keys.Order());
        Assert.All(planted, pair => Assert.Equal(pair.Value.Column, columns[pair.Key]));
        var word = found.Tables.Single(table => table.Into.Name == "word");
        Assert.Equal((1L, 0L, 1L, true), (word.Missing, word.Extra, word.Differing, word.ByHash));
        Assert.False(item.ByHash);
        var part = await crossing.CompareAsync(new ComparisonScope([TableName.Parse("stock.item")], From: "15", Before: "63"));
        Assert.Equal((1L, 0L, 6L), (part.Tables[0].Missing, part.Tables[0].Extra, part.Tables[0].Differing));

        // Rows that the load does not touch stay as they were meant to be; those that change meanwhile are never made older.
        await RunAsync(here, "UPDATE item SET code = 'new' WHERE id IN (9, 50)");
        var repair = await crossing.Engine.Reconcile.Repairs.RepairAsync(Crossing.Name, found, null, delete: true, "test", cancellation);
        Assert.Equal(0, repair.Rows.Count(row => row.Note?.Contains("quarantine", StringComparison.Ordinal) == true));
        await UntilEqualAsync(crossing, "tally");
        Assert.Equal("new new", await b.AskAsync("SELECT string_agg(code, ' ') FROM stock.item WHERE id IN (9, 50)"));
        await crossing.Engine.Reconcile.Repairs.UndoAsync(Crossing.Name, repair.Id, "test", cancellation);
        var back = await crossing.CompareAsync();
        Assert.Superset(
            planted.Keys.Where(id => id != 9).Append(5000).Select(id => id.ToString(CultureInfo.InvariantCulture)).ToHashSet(),
            back.Tables.Single(table => table.Into.Name == "item").Rows.Select(row => row.Key.TextAt(0)).ToHashSet()
        );
        await crossing.Engine.Reconcile.Repairs.RepairAsync(Crossing.Name, back, null, delete: true, "test", cancellation);
        await UntilEqualAsync(crossing, "tally");
    }

    /// <summary>The server's own benchmark (TPC-B) writes meanwhile; VESTIGE_COMPARISONS says how often both sides are compared.</summary>
    [Fact]
    public async Task Under_pgbench_into_a_stand_in_nothing_in_flight_is_a_difference()
    {
        var many = int.Parse(Environment.GetEnvironmentVariable("VESTIGE_COMPARISONS") ?? "12", CultureInfo.InvariantCulture) / 4;
        var (a, there) = (await servers.A.MakeDatabaseAsync(), StandIn("copy"));
        await a.Cluster.ProgramAsync("pgbench", "-i", "-q", "-s", "1", a.Name);
        await using var crossing = await Crossing.StartAsync(
            ServerOf(a),
            there,
            Definition("public.*", new ApplyRule("*_history", ApplyMode.InsertOnly))
        );
        await crossing.FollowsAsync();
        var load = a.Cluster.ProgramAsync(
            "pgbench",
            "-c",
            "2",
            "-T",
            ((many * 4) + 20).ToString(CultureInfo.InvariantCulture),
            "-n",
            "-R",
            "100",
            a.Name
        );
        Assert.True((await crossing.CompareAsync()).IsEqualBut("pgbench_history"));
        var (times, inFlight) = (0, 0L);
        for (; times < many && !load.IsCompleted; times++)
        {
            // What was proved once needs only its changed rows compared, which is what the minutes before a switch are for.
            var found = await crossing.CompareAsync(ComparisonScope.All with { Changed = times % 2 == 1 });
            Assert.True(
                found.IsEqualBut("pgbench_history"),
                string.Join(
                    "; ",
                    found.Tables.Select(table =>
                        $"{table.Into}: {table.Reason} {string.Join(", ", table.Rows.Select(row => $"{row.Kind} {row.Key.DisplayAt(0)}"))}"
                    )
                )
            );
            inFlight += found.Tables.Sum(table => table.InFlight);
        }

        await RunAsync(there, "UPDATE pgbench_accounts SET filler = 'damaged' WHERE aid = 77777");
        for (var i = 0; i < 3; i++)
        {
            var row = Assert.Single((await crossing.CompareAsync()).Tables.SelectMany(table => table.Rows), row =>
                row.Key.IntegerAt(0) == 77777
            );
            Assert.Equal(("filler", "77777"), (row.Columns.Single(), row.SourceKey.TextAt(0)));
        }

        await crossing.Engine.Reconcile.Repairs.RepairAsync(
            Crossing.Name,
            await crossing.CompareAsync(),
            null,
            delete: false,
            "test",
            cancellation
        );
        await load;
        await UntilEqualAsync(crossing, "pgbench_history");
        TestContext.Current.TestOutputHelper?.WriteLine($"{times} comparisons under load, {inFlight} rows in flight");
    }

    [Fact]
    public async Task Rows_of_the_server_arrive_on_a_stand_in_whatever_their_types()
    {
        var (a, there) = (await servers.A.MakeDatabaseAsync(), StandIn("copy"));
        await a.RunAsync(
            """
            CREATE TYPE mood AS ENUM ('glad', 'odd');
            CREATE TABLE maker (id uuid PRIMARY KEY, name text NOT NULL UNIQUE, born date CHECK (born > '1900-01-01'));
            CREATE TABLE t (id bigint PRIMARY KEY, maker uuid REFERENCES maker, a smallint, d numeric, e numeric(12,3), f real,
                g double precision, h boolean, c char(6), j timestamp, k timestamptz, l interval, m bytea, n json, o jsonb, p int[],
                    u mood, big text);
            CREATE INDEX ON t (a);
            INSERT INTO maker SELECT md5(i::text)::uuid, 'maker ' || i, '1970-01-01' FROM generate_series(1, 10) i;
            INSERT INTO t SELECT i, md5((1 + i % 10)::text)::uuid, i % 100, i / 7.0, i / 7.0, i / 7.0, i / 7.0, i % 2 = 0, 'ab',
                timestamp '2024-12-31 23:59:59.999999' + i * interval '1 hour', timestamptz '0044-03-15 12:00 BC' + i * interval '1 year',
              make_interval(secs => i / 3.0), decode(md5(i::text), 'hex'), '{"b": 1.10}', '{"b": 1.10}', ARRAY[i, NULL],
                  CASE i % 2 WHEN 0 THEN 'glad'::mood ELSE 'odd' END, repeat(md5(i::text), 200) FROM generate_series(1, 2000) i;
            UPDATE t SET g = 'Infinity', d = 'NaN', k = 'infinity' WHERE id = 5;
            """
        );
        await using var crossing = await Crossing.StartAsync(ServerOf(a), there, Definition("public.*"));
        await crossing.FollowsAsync();
        var plan = await crossing.Engine.PlanAsync(Definition("public.*"), cancellation);
        Assert.Contains(plan.NotMade, note => note.Contains("t_a_idx", StringComparison.Ordinal));
        Assert.Contains(plan.Checks, line =>
            line is { Step: "types of two engines", Ok: true } && line.Found.Contains("numeric as TEXT", StringComparison.Ordinal)
        );
        Assert.Equal(
            "INTEGER TEXT INTEGER TEXT TEXT REAL REAL BOOLEAN TEXT TIMESTAMP TIMESTAMP WITH TIME ZONE TEXT BLOB JSON TEXT JSON TEXT "
                + "TEXT TEXT TEXT",
            await AskAsync(there, "SELECT group_concat(type, ' ') FROM (SELECT type FROM pragma_table_info('t') ORDER BY cid)")
        );
        Assert.Equal(
            "2000|integer|text|real|integer|blob",
            await AskAsync(
                there,
                "SELECT count(*) || '|' || typeof(id) || '|' || typeof(d) || '|' || typeof(g) || '|' || typeof(h) || '|' || typeof(m) "
                    + "FROM t"
            )
        );
        Assert.Equal("maker", await AskAsync(there, "SELECT \"table\" FROM pragma_foreign_key_list('t')"));

        // The large text stays out of the log where it does not change, and stays on the target.
        await a.RunAsync(
            "UPDATE t SET a = 7 WHERE id % 3 = 0; UPDATE t SET id = -id WHERE id % 500 = 1; DELETE FROM t WHERE id % 100 = 50; UPDATE "
                + "maker SET name = 'x ' || name"
        );
        await UntilEqualAsync(crossing);

        // Unique values that swap, of which the log does not tell what they were.
        await a.RunAsync("ALTER TABLE maker DROP CONSTRAINT maker_name_key, ADD UNIQUE (name) DEFERRABLE INITIALLY DEFERRED");
        await a.RunAsync(
            "UPDATE maker SET name = CASE name WHEN 'x maker 1' THEN 'x maker 2' ELSE 'x maker 1' END WHERE name IN ('x maker 1', 'x "
                + "maker 2')"
        );
        await UntilEqualAsync(crossing);
        Assert.Equal("6400", await AskAsync(there, "SELECT min(length(big)) FROM t"));
        await RunAsync(there, "UPDATE t SET d = d || '0', n = '{ \"b\" : 1.1 }' WHERE id = 6; UPDATE t SET c = 'ab' WHERE id = 7");
        Assert.True((await crossing.CompareAsync()).IsEqual);
        await RunAsync(
            there,
            "UPDATE t SET d = d || '1' WHERE id = 6; UPDATE t SET k = '0044-03-15 12:00:01+00 BC' WHERE id = 8; UPDATE t SET u = "
                + "'Glad' WHERE id = 10; UPDATE maker SET born = '1970-01-02' WHERE name = 'x maker 3'"
        );
        var found = await crossing.CompareAsync();
        Assert.Equal(
            ["6 d", "8 k", "10 u"],
            found
                .Tables.Single(table => table.Into.Name == "t")
                .Rows.OrderBy(row => row.Key.IntegerAt(0))
                .Select(row => $"{row.Key.IntegerAt(0)} {string.Join(',', row.Columns)}")
        );
        Assert.Equal(["born"], found.Tables.Single(table => table.Into.Name == "maker").Rows.Single().Columns);
        await crossing.Engine.Reconcile.Repairs.RepairAsync(Crossing.Name, found, null, delete: false, "test", cancellation);
        Assert.True((await crossing.CompareAsync()).IsEqual);
    }

    /// <summary>A value that the other engine cannot hold waits with its reason; it is neither dropped nor bent.</summary>
    [Fact]
    public async Task A_value_that_does_not_fit_is_set_aside_with_its_reason()
    {
        var (a, there) = (await servers.A.MakeDatabaseAsync(), StandIn("copy"));
        await a.RunAsync("CREATE TABLE t (id int PRIMARY KEY, g double precision); INSERT INTO t VALUES (1, 1.5)");
        await using var crossing = await Crossing.StartAsync(
            ServerOf(a),
            there,
            Definition("public.*") with
            {
                Quarantine = new QuarantineRule(Rows: 10),
            }
        );
        await crossing.FollowsAsync();
        await a.RunAsync("INSERT INTO t VALUES (2, 'NaN'), (3, 3.5)");
        await crossing.UntilAsync(() => crossing.Engine.Quarantine.Waiting(Crossing.Name) is { Count: 1 }, "the row aside");
        Assert.Contains("g is NaN", crossing.Engine.Quarantine.Waiting(Crossing.Name)![0].Answer, StringComparison.Ordinal);
        await crossing.UntilAsync(
            () => crossing.Status.State == CrossingState.Following && AskAsync(there, "SELECT group_concat(id) FROM t").Result == "1,3",
            "the row behind it"
        );
        await a.RunAsync("UPDATE t SET g = 2.5 WHERE id = 2");
        await crossing.UntilAsync(() => crossing.Engine.Quarantine.Waiting(Crossing.Name) is { Count: 2 }, "the change behind the row");
        await crossing.Engine.Quarantine.DropAsync(
            Crossing.Name,
            [crossing.Engine.Quarantine.Waiting(Crossing.Name)![0].Id],
            "it is to come with the change behind it",
            "test",
            cancellation
        );
        await crossing.UntilAsync(() => crossing.Engine.Quarantine.Waiting(Crossing.Name) is { Count: 0 }, "the change behind it");
        await UntilEqualAsync(crossing);
    }

    [Fact]
    public async Task What_cannot_cross_is_found_before_the_start()
    {
        var (b, here) = (await servers.B.MakeDatabaseAsync(), StandIn("stock"));
        await RunAsync(
            here,
            "CREATE TABLE loose (id INTEGER PRIMARY KEY, anything); CREATE TABLE dated (at TIMESTAMP PRIMARY KEY, n INTEGER); CREATE "
                + "TABLE fine (id INTEGER PRIMARY KEY)"
        );
        await using var crossing = new Crossing(null, null, here, ServerOf(b));
        await crossing.BeginAsync();
        var plan = await crossing.Engine.PlanAsync(Definition("stock.*"), cancellation);
        Assert.Equal(
            [
                "anything of stock.loose has no type, and its values may be of any",
                "at is in the key of stock.dated, and two texts that are different there are one timestamp on the target",
            ],
            plan.Checks.Where(line => !line.Ok).Select(line => line.Found).OrderDescending().Reverse()
        );
        Assert.Contains(plan.Statements, statement => statement.Makes == TableName.Parse("stock.fine"));
        await Assert.ThrowsAsync<NotReadyException>(async () =>
        {
            await crossing.Engine.DefineAsync(Definition("stock.*"), "test", cancellation);
            await crossing.Engine.RunAsync(Crossing.Name, "test", cancellation);
        });
        Assert.Equal("0", await b.AskAsync("SELECT count(*) FROM pg_class WHERE relname = 'fine'"));
    }

    private static CrossingDefinition Definition(string take, params ApplyRule[] rules) =>
        new(
            Crossing.Name,
            CrossingDefinition.Copy,
            "a",
            "b",
            new TableRules([new TableRule(Take: take)]),
            Apply: rules.Length == 0 ? null : rules
        );

    private StandInConnector StandIn(string name) =>
        new(
            name,
            () => StandInDatabase.Open(Path.Combine(folder, $"{name}.db"), name, new StandInOptions(), TimeProvider.System),
            TimeProvider.System
        );

    private static PostgreSqlConnector ServerOf(Database database) => new(database.Settings(), database.Names, TimeProvider.System);

    private async Task RunAsync(StandInConnector standIn, string statements)
    {
        using var transaction = await standIn.Database.BeginAsync(cancellation: cancellation);
        foreach (var statement in statements.Split(';', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries))
        {
            transaction.Run(statement);
        }

        transaction.Commit();
    }

    private async Task<string> AskAsync(StandInConnector standIn, string statement) =>
        (await StandInBench.RunAsync(standIn.Database, statement, TimeProvider.System, cancellation)).Rows[0][0] ?? "";

    /// <summary>Waits until both sides are proved equal; nothing else may be found on the way than what is yet to come.</summary>
    private async Task UntilEqualAsync(Crossing crossing, string but = "")
    {
        await crossing.UntilAsync(() => crossing.Status.Lag?.Current == true, "current");
        var found = await crossing.CompareAsync();
        Assert.True(
            found.IsEqualBut(but),
            string.Join(
                "; ",
                found.Tables.Select(table =>
                    $"{table.Into}: {table.Reason} "
                    + $"{string.Join(", ", table.Rows.Select(row => $"{row.Kind} {row.Key.DisplayAt(0)} {string.Join(',', row.Columns)}"))}"
                )
            )
        );
    }
}

/// <summary>Whether all tables are equal but those that cannot be compared.</summary>
internal static class ReconciliationLook
{
    public static bool IsEqualBut(this Reconciliation found, string table) =>
        found.Tables.All(one => one.Into.Name == table || one.IsEqual);
}
