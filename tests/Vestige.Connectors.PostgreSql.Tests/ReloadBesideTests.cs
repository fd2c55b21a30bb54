using Npgsql;
using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Engine.Faults;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>Tables that are loaded again while others of their crossing follow. Both servers say what they hold.</summary>
public sealed class ReloadBesideTests(TwoServers servers)
{
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    /// <summary>A few seeds; as many as there are kills in the full proofs.</summary>
    public static TheoryData<int> Seeds { get; } =
        [.. Enumerable.Range(1, int.Parse(Environment.GetEnvironmentVariable("VESTIGE_KILLS") ?? "2"))];

    private static TableName T(int number) => new("public", $"t{number}");

    /// <summary>A reader of the copy never sees it without its rows, and nobody waits for it.</summary>
    [Fact]
    public async Task One_table_of_ten_is_loaded_again_while_nine_follow()
    {
        var (a, b) = await BothAsync(TenTables(20_000));
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        await b.RunAsync(
            "DELETE FROM t3 WHERE id % 100 = 1; UPDATE t3 SET v = 'other' WHERE id % 50 = 2; INSERT INTO t3 VALUES (-5, 'extra', -5)"
        );
        using var writing = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
        var (writer, reader) = (WriteAsync(a, 7, writing.Token), LeastAsync(b, "t3", writing.Token));
        await crossing.Engine.ReloadAsync(Crossing.Name, [T(3)], "test", cancellation);
        await crossing.UntilAsync(() => HasSaid(crossing, "Rows of public.t3 replaced in place"), "rows");
        await crossing.UntilAsync(() => Follows(crossing, T(3)), "the table to follow");
        Assert.DoesNotContain(crossing.Status.Tables, table => table.Source != T(3) && table.State == TableState.Waiting);
        await writing.CancelAsync();
        await writer;
        Assert.InRange(await reader, 19_000, 30_000);
        await crossing.SameAsync([.. Enumerable.Range(0, 10).Select(number => $"t{number}")]);
        Assert.Equal("0", await b.AskAsync("SELECT count(*) FROM pg_class WHERE relname LIKE 'load\\_%'"));
        var keys = "SELECT string_agg(c.relname, ',' ORDER BY 1) FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid WHERE indrelid = ";
        Assert.Equal("t3_pkey,t3_u_key", await b.AskAsync($"{keys}'t3'::regclass"));
    }

    /// <summary>Whatever ends when, and however often it is asked for.</summary>
    [Theory]
    [MemberData(nameof(Seeds))]
    public async Task Loads_are_interrupted_at_any_time_and_all_tables_end_equal(int seed)
    {
        var random = new Random(seed);
        TestContext.Current.SendDiagnosticMessage($"seed {seed}");
        var (a, b) = await BothAsync(TenTables(5_000));
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        using var writing = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
        var writer = WriteAsync(a, seed, writing.Token);
        for (var round = 0; round < 6; round++)
        {
            List<TableName> tables = [.. Enumerable.Range(0, 1 + random.Next(3)).Select(_ => T(random.Next(10))).Distinct()];
            await b.RunAsync($"UPDATE {tables[0].Name} SET v = 'other' WHERE id % 7 = {random.Next(7)}");
            await ReloadAsync(crossing, tables);
            await Task.Delay(random.Next(400), cancellation);
            switch (random.Next(3))
            {
                case 0:
                    await crossing.EndAsync();
                    await crossing.BeginAsync();
                    break;
                case 1:
                    await b.RunAsync(
                        "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = current_database() AND pid <> "
                            + "pg_backend_pid() AND random() < 0.6"
                    );
                    break;
                default:
                    await a.RunAsync(
                        "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = current_database() AND pid <> "
                            + "pg_backend_pid() AND backend_type = 'client backend' AND application_name <> 'writer' AND random() < 0.6"
                    );
                    break;
            }
        }

        await crossing.UntilAsync(() => Enumerable.Range(0, 10).All(number => Follows(crossing, T(number))), $"seed {seed}: all to follow");
        await writing.CancelAsync();
        await writer;
        await crossing.SameAsync([.. Enumerable.Range(0, 10).Select(number => $"t{number}")]);
    }

    /// <summary>The copy is recreated in the transaction that brings its rows, and references to it are rebuilt.</summary>
    [Fact]
    public async Task A_table_whose_type_changed_is_loaded_again_in_its_new_form_with_references_to_it()
    {
        var (a, b) = await BothAsync(
            """
            CREATE TABLE parent (id int PRIMARY KEY, v text);
            CREATE TABLE child (id int PRIMARY KEY, parent int REFERENCES parent);
            INSERT INTO parent SELECT i, i FROM generate_series(1, 500) i;
            INSERT INTO child SELECT i, i FROM generate_series(1, 500) i;
            """
        );
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        await crossing.SameAsync("parent", "child");
        await a.RunAsync("ALTER TABLE parent ALTER v TYPE numeric USING v::numeric; UPDATE parent SET v = v + 0.5 WHERE id < 9");
        await crossing.UntilAsync(() => crossing.Status.Tables.Any(table => table.State == TableState.Held), "held");
        await crossing.Engine.ReloadAsync(Crossing.Name, [new TableName("public", "parent")], "test", cancellation);
        await a.RunAsync("INSERT INTO child VALUES (501, 7)");
        await crossing.SameAsync("parent", "child");
        Assert.Equal("numeric", await b.AskAsync("SELECT pg_typeof(v)::text FROM parent LIMIT 1"));
        while (await b.PollAsync("SELECT count(*) FROM pg_constraint WHERE contype = 'f' AND conrelid = 'child'::regclass") == "0")
        {
            await Task.Delay(50, cancellation);
        }
    }

    [Fact]
    public async Task A_table_that_cannot_be_loaded_is_held_with_the_reason_and_the_others_go_on()
    {
        var (a, b) = await BothAsync(TenTables(100));
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        await b.RunAsync("DELETE FROM t4; ALTER TABLE t4 ADD CONSTRAINT few CHECK (id < 50)");
        await crossing.Engine.ReloadAsync(Crossing.Name, [T(4), T(5)], "test", cancellation);
        await crossing.UntilAsync(() => Of(crossing, T(4)).State == TableState.Held, "held");
        Assert.Contains("few", Of(crossing, T(4)).Cause, StringComparison.Ordinal);
        await a.RunAsync("UPDATE t5 SET v = 'goes on'; UPDATE t6 SET v = 'goes on'");
        await crossing.SameAsync("t5", "t6");
        Assert.Equal("0", await b.AskAsync("SELECT count(*) FROM t4"));
        await b.RunAsync("ALTER TABLE t4 DROP CONSTRAINT few");
        await crossing.Engine.ReloadAsync(Crossing.Name, [T(4)], "test", cancellation);
        await crossing.SameAsync("t4");
        await crossing.UntilAsync(() => Follows(crossing, T(4)), "the table to follow");
    }

    /// <summary>Also where the target calls it otherwise.</summary>
    [Fact]
    public async Task Of_two_tables_only_the_one_that_is_refused_is_held()
    {
        var (a, b) = await BothAsync(TenTables(100));
        var rules = new TableRules([new TableRule(Take: "public.t4"), new TableRule(Take: "public.t5")]);
        var definition = new CrossingDefinition(Crossing.Name, "copy", "a", "b", rules) { Naming = new Naming(Suffix: "_copy") };
        await using var crossing = await Crossing.StartAsync(a, b, definition);
        await crossing.FollowsAsync();
        await b.RunAsync("DELETE FROM t4_copy; ALTER TABLE t4_copy ADD CONSTRAINT few CHECK (id < 50); DELETE FROM t5_copy");
        await crossing.Engine.ReloadAsync(Crossing.Name, [T(4), T(5)], "test", cancellation);
        await crossing.UntilAsync(() => Of(crossing, T(4)).State == TableState.Held && Follows(crossing, T(5)), "one held, one loaded");
        Assert.Equal("100", await b.AskAsync("SELECT count(*) FROM t5_copy"));
    }

    /// <summary>Values that are equal and not the same count as different; a unique value may go from one row to another.</summary>
    [Fact]
    public async Task Rows_are_replaced_where_their_values_are_not_the_same_to_the_last_digit()
    {
        var (a, b) = await BothAsync(
            """
            CREATE TABLE t (id numeric PRIMARY KEY, u int UNIQUE, j json, n numeric, f float8, g point);
            INSERT INTO t SELECT i, i, '{"a": 1}', 1.50, 0.1, '(1,2)' FROM generate_series(1, 40) i;
            """
        );
        await using var crossing = await Crossing.StartAsync(a, b, "public.t");
        await crossing.FollowsAsync();
        await crossing.SameAsync("t");
        await b.RunAsync(
            "UPDATE t SET u = -u WHERE id < 9; UPDATE t SET u = 9 - id WHERE id < 9; UPDATE t SET n = 1.5 WHERE id = 11; "
                + "UPDATE t SET f = '-0' WHERE id = 12; UPDATE t SET j = '{\"a\":1}' WHERE id = 13; UPDATE t SET id = 14.0 WHERE id = 14; "
                + "UPDATE t SET g = '(1,3)' WHERE id = 15"
        );
        await crossing.Engine.ReloadAsync(Crossing.Name, [new TableName("public", "t")], "test", cancellation);
        await crossing.SameAsync("t");
        Assert.Equal("14", await b.AskAsync("SELECT id::text FROM t WHERE id = 14"));
    }

    /// <summary>Each kind of change that is not carried, one after the other; what a mask stands on waits for a person.</summary>
    [Fact]
    public async Task Tables_whose_schema_changed_are_loaded_again_by_themselves_where_the_crossing_says_so()
    {
        var (a, b) = await BothAsync(
            """
            CREATE TABLE t (id int PRIMARY KEY, v text, n int);
            CREATE TABLE secret (id int PRIMARY KEY, name text);
            CREATE TABLE beside (id int PRIMARY KEY, v text);
            INSERT INTO t SELECT i, i, i FROM generate_series(1, 500) i;
            INSERT INTO secret SELECT i, i FROM generate_series(1, 50) i;
            """
        );
        var definition = new CrossingDefinition(Crossing.Name, "copy", "a", "b", new TableRules([new TableRule(Take: "public.*")]))
        {
            Treatment = [new TreatmentStep("public.secret", Mask: [new MaskedColumn("name", MaskMethod.Null)])],
            SchemaChanges = [new SchemaChangeRule("*", SchemaChangeAction.Reload)],
        };
        await using var crossing = await Crossing.StartAsync(a, b, definition);
        await crossing.FollowsAsync();
        await crossing.SameAsync("t");
        await a.RunAsync("ALTER TABLE secret ADD given text DEFAULT 'x'; UPDATE secret SET given = 'seen' WHERE id = 1");
        foreach (
            var change in new[]
            {
                "ALTER TABLE t ADD c int NOT NULL DEFAULT 5",
                "ALTER TABLE t RENAME v TO w",
            }
        )
        {
            await a.RunAsync($"{change}; UPDATE t SET n = n + 1 WHERE id < 9; INSERT INTO beside VALUES ({change.Length}, 'goes on')");
            await crossing.SameAsync("beside", "t");

            // A table is reloaded automatically at most once a minute; a new worker remembers no earlier reload.
            await crossing.EndAsync();
            await crossing.BeginAsync();
        }

        await a.RunAsync("ALTER TABLE t DROP n; ALTER TABLE t ALTER w TYPE numeric USING w::numeric; DELETE FROM t WHERE id = 3");
        await crossing.SameAsync("t");
        Assert.True(HasSaid(crossing, "Loaded again automatically: public.t"));
        await crossing.UntilAsync(() => Of(crossing, new TableName("public", "secret")).State == TableState.Held, "held");
        Assert.Equal("0", await b.AskAsync("SELECT count(*) FROM pg_attribute WHERE attrelid = 'secret'::regclass AND attname = 'given'"));
    }

    /// <summary>Also a column that only adds is then left to a person.</summary>
    [Fact]
    public async Task Where_the_crossing_says_so_any_change_waits_for_a_person()
    {
        var (a, b) = await BothAsync("CREATE TABLE t (id int PRIMARY KEY, v text); INSERT INTO t VALUES (1, 'x')");
        var definition = new CrossingDefinition(Crossing.Name, "copy", "a", "b", new TableRules([new TableRule(Take: "public.*")]))
        {
            SchemaChanges = [new SchemaChangeRule("*", SchemaChangeAction.Hold)],
        };
        await using var crossing = await Crossing.StartAsync(a, b, definition);
        await crossing.FollowsAsync();
        await a.RunAsync("ALTER TABLE t ADD c int; INSERT INTO t VALUES (2, 'y', 2)");
        await crossing.UntilAsync(() => Of(crossing, new TableName("public", "t")).State == TableState.Held, "held");
        await crossing.Engine.ReloadAsync(Crossing.Name, [new TableName("public", "t")], "test", cancellation);
        await crossing.SameAsync("t");
    }

    private static bool Follows(Crossing crossing, TableName table) =>
        crossing.Status.State == CrossingState.Following && Of(crossing, table).State == TableState.Following;

    /// <summary>Asked again where a connection has just been ended.</summary>
    private async Task ReloadAsync(Crossing crossing, IReadOnlyList<TableName> tables)
    {
        for (var attempt = 1; ; attempt++)
        {
            try
            {
                await crossing.Engine.ReloadAsync(Crossing.Name, tables, "test", cancellation);
                return;
            }
            catch (PortException exception) when (exception.Transient && attempt < 20)
            {
                await Task.Delay(50, cancellation);
            }
        }
    }

    private static bool HasSaid(Crossing crossing, string text)
    {
        lock (crossing.Said)
        {
            return crossing.Said.Exists(said => said.StartsWith(text, StringComparison.Ordinal));
        }
    }

    private static Engine.Measuring.TableStatus Of(Crossing crossing, TableName table) =>
        crossing.Status.Tables.Single(status => status.Source == table);

    private static string TenTables(int rows) =>
        string.Concat(
            Enumerable
                .Range(0, 10)
                .Select(number =>
                    $"CREATE TABLE t{number} (id int PRIMARY KEY, v text, u int UNIQUE); INSERT INTO t{number} SELECT i, 'v' || i, i "
                    + $"FROM generate_series(1, {rows}) i; "
                )
        );

    /// <summary>Changes of all tables, until it is cancelled.</summary>
    private static async Task WriteAsync(Database a, int seed, CancellationToken ending)
    {
        var random = new Random(seed);
        for (var next = 100_000; !ending.IsCancellationRequested; next++)
        {
            var (one, other) = (random.Next(10), random.Next(10));
            var statement = $"""
                SET application_name = 'writer'; BEGIN; UPDATE t{one} SET v = v || '!' WHERE id = {random.Next(1, 200)};
                INSERT INTO t{other} VALUES ({next}, 'new', {next}); DELETE FROM t{one} WHERE id = {next - random.Next(1, 30)}; COMMIT
                """;
            try
            {
                await a.RunAsync(statement);
            }
            catch (NpgsqlException)
            {
                // Its connection was ended as well.
            }
        }
    }

    /// <summary>The fewest rows that a reader has seen until it is cancelled.</summary>
    private static async Task<long> LeastAsync(Database b, string table, CancellationToken ending)
    {
        var least = long.MaxValue;
        while (!ending.IsCancellationRequested)
        {
            least = Math.Min(least, long.Parse(await b.AskAsync($"SELECT count(*) FROM {table}")));
            await Task.Delay(5, CancellationToken.None);
        }

        return least;
    }

    private async Task<(Database A, Database B)> BothAsync(string tables)
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(tables);
        return (a, b);
    }
}
