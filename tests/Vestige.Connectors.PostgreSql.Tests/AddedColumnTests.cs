using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>
/// Columns that a source's table gets while it is followed. Both servers say what they hold; the log names columns only, and the catalog is
/// ahead of it.
/// </summary>
public sealed class AddedColumnTests(TwoServers servers)
{
    private const string Tables = """
        CREATE TABLE t (id int PRIMARY KEY, v text);
        INSERT INTO t SELECT i, 'v' || i FROM generate_series(1, 20) i;
        CREATE TABLE beside (id int PRIMARY KEY, v text);
        """;

    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    /// <summary>A few seeds; as many as there are kills in the full proofs.</summary>
    public static TheoryData<int> Seeds { get; } =
        [.. Enumerable.Range(1, int.Parse(Environment.GetEnvironmentVariable("VESTIGE_KILLS") ?? "2"))];

    /// <summary>
    /// Each while it is read, and while nothing is read: then rows of both versions come after the look that finds the column.
    /// </summary>
    [Theory]
    [InlineData("ALTER TABLE t ADD c int§UPDATE t SET c = id WHERE id < 5§INSERT INTO t VALUES (100, 'n', 1)")]
    [InlineData(
        "INSERT INTO t VALUES (99, 'before')§UPDATE t SET v = 'before' WHERE id = 2§ALTER TABLE t ADD c int§"
            + "UPDATE t SET c = 7 WHERE id = 2"
    )]
    [InlineData(
        "BEGIN; UPDATE t SET v = 'in'; ALTER TABLE t ADD c numeric(9,2); UPDATE t SET c = 1.50; DELETE FROM t WHERE id = 3; COMMIT"
    )]
    [InlineData("ALTER TABLE t ADD c int, ADD d text§UPDATE t SET d = 'd'§DELETE FROM t WHERE id > 10")]
    [InlineData("ALTER TABLE t ADD c text§UPDATE t SET c = 'c'§ALTER TABLE t ADD d jsonb§UPDATE t SET d = '{\"a\": 1}' WHERE id = 4")]
    [InlineData("ALTER TABLE t ADD \"a \"\" b\" timestamptz§UPDATE t SET \"a \"\" b\" = '2026-03-01 12:00:00+00'")]
    [InlineData("ALTER TABLE t ADD c int§CREATE INDEX ON t (c)§VACUUM t§ANALYZE t§INSERT INTO t VALUES (101, 'x', 2)")]
    [InlineData("ALTER TABLE t REPLICA IDENTITY FULL§ALTER TABLE t ADD c text§UPDATE t SET c = repeat('x', 9000)§UPDATE t SET v = 'y'")]
    public async Task A_column_that_takes_NULL_is_added_to_the_copy_and_the_table_goes_on(string statements)
    {
        foreach (var isAway in new[] { false, true })
        {
            var (a, b) = await BothAsync();
            await using var crossing = await Crossing.StartAsync(a, b, "public.t", "public.beside");
            await crossing.FollowsAsync();
            await a.RunAsync("UPDATE t SET v = 'once' WHERE id = 1");
            await crossing.SameAsync("t");
            await RunAsync(crossing, isAway, statements);
            await a.RunAsync("INSERT INTO beside VALUES (7, 'goes on')");
            await crossing.SameAsync("beside");
            await crossing.SameAsync("t");
            Assert.Null(Cause(crossing));
            Assert.Null(crossing.Status.Fault);
        }
    }

    /// <summary>
    /// Existing rows have a value that no row in the log tells, though the column looks as if it never had a default. In one transaction,
    /// so that no look comes between.
    /// </summary>
    [Theory]
    [InlineData("BEGIN; ALTER TABLE t ADD c int DEFAULT 5; ALTER TABLE t ALTER c DROP DEFAULT; COMMIT")]
    [InlineData("BEGIN; ALTER TABLE t ADD c float DEFAULT random(); ALTER TABLE t ALTER c DROP DEFAULT; COMMIT")]
    [InlineData("BEGIN; ALTER TABLE t ADD c int NOT NULL DEFAULT 5; ALTER TABLE t ALTER c DROP DEFAULT, ALTER c DROP NOT NULL; END")]
    [InlineData("CREATE DOMAIN five AS int DEFAULT 5; ALTER TABLE t ADD c five")]
    [InlineData("ALTER TABLE t ADD c int DEFAULT 5§ALTER TABLE t ALTER c DROP DEFAULT§VACUUM FULL t")]
    public async Task A_column_whose_default_is_gone_again_holds_the_table(string statements)
    {
        var (a, b) = await BothAsync();
        await using var crossing = await Crossing.StartAsync(a, b, "public.t", "public.beside");
        await crossing.FollowsAsync();
        await RunAsync(crossing, statements.Contains('§', StringComparison.Ordinal), statements);
        await a.RunAsync("UPDATE t SET v = 'later' WHERE id = 1");
        await crossing.UntilAsync(() => Cause(crossing) is not null, "held");
        Assert.Contains("column c was added", Cause(crossing), StringComparison.Ordinal);
        var columns = await b.AskAsync("SELECT string_agg(attname, ',') FROM pg_attribute WHERE attrelid = 't'::regclass AND attnum > 0");
        Assert.Equal("id,v", columns);
    }

    /// <summary>
    /// Its columns have the numbers of those that the copy was loaded with, and are the first of those that it has: what is written into
    /// it must not be taken for rows from before the columns were added.
    /// </summary>
    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public async Task A_table_that_is_made_again_without_columns_that_were_added_is_held(bool isAway)
    {
        var (a, b) = await BothAsync();
        await using var crossing = await Crossing.StartAsync(a, b, "public.t", "public.beside");
        await crossing.FollowsAsync();
        await a.RunAsync("ALTER TABLE t ADD c int");
        await a.RunAsync("UPDATE t SET c = 7 WHERE id = 2");
        await crossing.SameAsync("t");
        await RunAsync(crossing, isAway, "DROP TABLE t; CREATE TABLE t (id int PRIMARY KEY, v text)§INSERT INTO t VALUES (1, 'another')");
        await crossing.UntilAsync(() => Cause(crossing) is not null, "held");
        await crossing.Engine.ReloadAsync(Crossing.Name, [new TableName("public", "t")], "test", cancellation);
        await crossing.SameAsync("t");
    }

    [Fact]
    public async Task A_type_that_the_target_does_not_have_holds_the_table()
    {
        var (a, b) = await BothAsync();
        await using var crossing = await Crossing.StartAsync(a, b, "public.t", "public.beside");
        await crossing.FollowsAsync();
        await a.RunAsync("CREATE TYPE mood AS ENUM ('sad'); ALTER TABLE t ADD m mood; UPDATE t SET m = 'sad'");
        await crossing.UntilAsync(() => Cause(crossing) is not null, "held");
        Assert.Contains("could not be added to public.t", Cause(crossing), StringComparison.Ordinal);
        await a.RunAsync("INSERT INTO beside VALUES (7, 'goes on')");
        await crossing.SameAsync("beside");
        await crossing.Engine.ReloadAsync(Crossing.Name, [new TableName("public", "t")], "test", cancellation);
        await crossing.SameAsync("t");
    }

    [Fact]
    public async Task A_reader_of_the_copy_delays_it_and_is_not_waited_for_by_others()
    {
        var (a, b) = await BothAsync();
        await using var crossing = await Crossing.StartAsync(a, b, "public.t", "public.beside");
        await crossing.FollowsAsync();
        await using (var reader = await b.OpenAsync())
        {
            await using var begin = new Npgsql.NpgsqlCommand("BEGIN; SELECT count(*) FROM t", reader);
            await begin.ExecuteNonQueryAsync(cancellation);
            await a.RunAsync("ALTER TABLE t ADD c int; UPDATE t SET c = 1");
            await crossing.UntilAsync(() => crossing.Status.Waiting is not null, "the wait for the lock");

            // Whoever comes later is not held up behind a lock that is asked for without end.
            Assert.Equal("20", await b.AskAsync("SELECT count(*)::text FROM t"));
            await using var end = new Npgsql.NpgsqlCommand("COMMIT", reader);
            await end.ExecuteNonQueryAsync(cancellation);
        }

        await crossing.SameAsync("t");
        Assert.Null(Cause(crossing));
    }

    /// <summary>Rows and columns as they come, the engine ended between them at any moment.</summary>
    [Theory]
    [MemberData(nameof(Seeds))]
    public async Task Rows_and_columns_in_any_order_through_restarts_end_the_same(int seed)
    {
        var random = new Random(seed);
        var (a, b) = await BothAsync();
        await using var crossing = await Crossing.StartAsync(a, b, "public.t", "public.beside");
        await crossing.FollowsAsync();
        var columns = new List<string> { "v" };
        for (var step = 0; step < 40; step++)
        {
            var statements = string.Join("; ", Enumerable.Range(0, random.Next(1, 5)).Select(_ => Statement(random, columns)));
            await a.RunAsync(random.Next(2) == 0 ? $"BEGIN; {statements}; COMMIT" : statements);
            if (random.Next(8) == 0)
            {
                await crossing.EndAsync();
                await a.RunAsync(Statement(random, columns));
                await crossing.BeginAsync();
            }
        }

        await crossing.UntilAsync(() => Cause(crossing) is not null || crossing.Status.State == CrossingState.Following, "following");
        Assert.True(Cause(crossing) is null, $"seed {seed}: {Cause(crossing)}");
        await crossing.SameAsync("t");
    }

    private static string Statement(Random random, List<string> columns)
    {
        var column = columns[random.Next(columns.Count)];
        switch (random.Next(8))
        {
            case 0:
                columns.Add($"c{columns.Count}");
                return $"ALTER TABLE t ADD {columns[^1]} text";
            case < 4:
                return $"INSERT INTO t (id, {column}) VALUES ({random.Next(60)}, 'r{random.Next(1000)}') ON CONFLICT DO NOTHING";
            case < 7:
                return $"UPDATE t SET {column} = 'u{random.Next(1000)}' WHERE id % 3 = {random.Next(3)}";
            default:
                return $"DELETE FROM t WHERE id = {random.Next(60)}";
        }
    }

    private static async Task RunAsync(Crossing crossing, bool isAway, string statements)
    {
        if (isAway)
        {
            await crossing.EndAsync();
        }

        foreach (var statement in statements.Split('§'))
        {
            await crossing.From.RunAsync(statement);
        }

        if (isAway)
        {
            await crossing.BeginAsync();
        }
    }

    private static string? Cause(Crossing crossing) => crossing.Status.Tables.FirstOrDefault(table => table.Source.Name == "t")?.Cause;

    private async Task<(Database From, Database To)> BothAsync()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(Tables);
        return (a, b);
    }
}
