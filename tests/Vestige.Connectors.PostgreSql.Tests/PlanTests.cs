using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>A crossing whose plan is ready starts and follows. The plan names what would fail later, and the remedy.</summary>
public sealed class PlanTests(TwoServers servers)
{
    private const string Twice = "CREATE FUNCTION twice(int) RETURNS int IMMUTABLE LANGUAGE sql AS 'SELECT $1 * 2'";
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    /// <summary>Source, what is done while it is followed, and what the plan says no copy gets.</summary>
    [Theory]
    [InlineData(
        "CREATE TYPE pair AS (a int, b text); CREATE TABLE t (k pair PRIMARY KEY, v text); INSERT INTO t SELECT ROW(i, 'x' || "
            + "i)::pair, 'v' FROM generate_series(1, 500) i",
        "UPDATE t SET v = 'w' WHERE (k).a < 20; DELETE FROM t WHERE (k).a = 30; UPDATE t SET k = ROW(9999, 'moved')::pair WHERE (k).a "
            + "= 31; UPDATE t SET k = ROW(7777, NULL)::pair WHERE (k).a = 32; INSERT INTO t VALUES (ROW(NULL, NULL)::pair, 'nulls'); "
            + "UPDATE t SET v = 'again' WHERE k = ROW(NULL, NULL)::pair",
        ""
    )]
    [InlineData(
        "CREATE TABLE t (b int, a text, c date, v text, PRIMARY KEY (a, c, b)); INSERT INTO t SELECT i, 'x' || i % 7, date "
            + "'2020-01-01' + i % 11, 'v' FROM generate_series(1, 500) i",
        "UPDATE t SET v = 'w' WHERE b < 20; DELETE FROM t WHERE b = 30; UPDATE t SET b = 9999 WHERE b = 31; UPDATE t SET a = 'y', c = "
            + "'2024-02-29' WHERE b = 33",
        ""
    )]
    [InlineData(
        "CREATE FUNCTION fine(int) RETURNS boolean LANGUAGE sql AS 'SELECT $1 > 0'; CREATE TABLE t (id int PRIMARY KEY, n int "
            + "CONSTRAINT f CHECK (fine(n)), CONSTRAINT g CHECK (n < 1000)); INSERT INTO t VALUES (1, 1)",
        "INSERT INTO t VALUES (2, 2)",
        "f of public.t: it calls public.fine(integer), which may ask for more than the row itself"
    )]
    [InlineData(
        "CREATE TABLE t (id int PRIMARY KEY, n int); INSERT INTO t VALUES (1, -1), (2, 2); ALTER TABLE t ADD CONSTRAINT above CHECK "
            + "(n > 0) NOT VALID",
        "UPDATE t SET n = 5 WHERE id = 2",
        "above of public.t: it is NOT VALID at the source, whose older rows may break it"
    )]
    [InlineData(
        "CREATE TABLE p (id int PRIMARY KEY); CREATE TABLE t (id int PRIMARY KEY, n int); INSERT INTO t VALUES (1, -1), (2, 2); ALTER "
            + "TABLE t ADD CONSTRAINT above FOREIGN KEY (n) REFERENCES p NOT VALID",
        "UPDATE t SET n = NULL WHERE id = 2",
        ""
    )]
    [InlineData(
        "CREATE FUNCTION fine(int) RETURNS boolean LANGUAGE sql AS 'SELECT $1 > 0'; CREATE DOMAIN checked AS int CONSTRAINT f CHECK "
            + "(fine(VALUE)) CONSTRAINT g CHECK (VALUE < 1000); CREATE DOMAIN late AS int; CREATE TABLE t (id int PRIMARY KEY, n "
            + "checked, m late); INSERT INTO t VALUES (1, 1, -1); ALTER DOMAIN late ADD CONSTRAINT above CHECK (VALUE > 0) NOT VALID",
        "INSERT INTO t VALUES (2, 2, 2)",
        "above of the type public.late: it is NOT VALID at the source, or calls a function that may ask for more than the value "
            + "itself; f of the type public.checked: it is NOT VALID at the source, or calls a function that may ask for more than the "
            + "value itself"
    )]
    [InlineData(
        "CREATE EXTENSION pg_trgm; CREATE EXTENSION btree_gist; CREATE TABLE t (id int PRIMARY KEY, n text, r int4range, EXCLUDE "
            + "USING gist (id WITH =, r WITH &&)); CREATE INDEX ON t USING gin (n gin_trgm_ops); INSERT INTO t VALUES (1, 'abc', "
            + "'[1,2)')",
        "INSERT INTO t VALUES (2, 'x', '[1,2)')",
        ""
    )]
    [InlineData(
        "CREATE TABLE t (id int, v text) PARTITION BY RANGE (id); CREATE TABLE t1 PARTITION OF t FOR VALUES FROM (0) TO (100); CREATE "
            + "TABLE t2 PARTITION OF t DEFAULT; ALTER TABLE t REPLICA IDENTITY FULL; ALTER TABLE t1 REPLICA IDENTITY FULL; ALTER TABLE "
            + "t2 REPLICA IDENTITY FULL; INSERT INTO t VALUES (1, 'a'), (2, 'b'), (500, NULL), (500, '')",
        "UPDATE t SET v = 'c' WHERE id = 1; DELETE FROM t WHERE id = 2; UPDATE t SET id = 7 WHERE v = ''",
        ""
    )]
    [InlineData(
        "CREATE TABLE t (id int PRIMARY KEY DEFERRABLE INITIALLY DEFERRED, u int UNIQUE DEFERRABLE); ALTER TABLE t REPLICA IDENTITY "
            + "FULL; INSERT INTO t VALUES (1, 1), (2, 2), (3, 3)",
        "UPDATE t SET u = 4 - u; UPDATE t SET id = 4 - id",
        ""
    )]
    [InlineData(
        "CREATE TYPE pair AS (a int, b text); CREATE TABLE t OF pair (PRIMARY KEY (a)); INSERT INTO t VALUES (1, 'x')",
        "INSERT INTO t VALUES (2, 'y')",
        ""
    )]
    [InlineData(
        "CREATE TABLE base (id int PRIMARY KEY, n int); CREATE TABLE t (PRIMARY KEY (id), extra text) INHERITS (base); INSERT INTO t "
            + "VALUES (1, 1, 'x'); INSERT INTO base VALUES (5, 5)",
        "INSERT INTO t VALUES (2, 2, 'y'); UPDATE base SET n = 7",
        ""
    )]
    public async Task What_is_ready_starts_and_follows(string made, string then, string notMade)
    {
        var (a, b) = await BothAsync(made);
        await using var crossing = await Crossing.StartAsync(a, b, All);
        Assert.Equal(notMade, string.Join("; ", (await crossing.Engine.PlanAsync(All, cancellation)).NotMade.Order()));
        await crossing.FollowsAsync();
        await a.RunAsync(then);
        await crossing.SameAsync("t");
        Assert.All((await crossing.CompareAsync()).Tables, table => Assert.True(table.IsEqual));
    }

    [Theory]
    [InlineData(
        "CREATE COLLATION folded (provider = icu, locale = 'de-u-ks-level2', deterministic = false); CREATE TABLE t (id int PRIMARY "
            + "KEY, n text COLLATE folded)",
        "collation public.folded",
        "a column of public.t",
        "CREATE COLLATION folded (provider = icu, locale = 'de-u-ks-level2', deterministic = false)"
    )]
    [InlineData(
        "CREATE COLLATION folded (provider = icu, locale = 'de-u-ks-level2'); CREATE TABLE t (id int PRIMARY KEY, n text); CREATE "
            + "INDEX by_n ON t (n COLLATE folded)",
        "collation public.folded",
        "by_n of public.t",
        "CREATE COLLATION folded (provider = icu, locale = 'de-u-ks-level2')"
    )]
    [InlineData(
        Twice + "; CREATE TABLE t (id int PRIMARY KEY, n int); CREATE INDEX by_n ON t (twice(n))",
        "function public.twice(integer)",
        "by_n of public.t",
        Twice
    )]
    [InlineData(
        Twice + "; CREATE TABLE t (id int PRIMARY KEY, n int, g int GENERATED ALWAYS AS (twice(n)) STORED)",
        "function public.twice(integer)",
        "g of public.t",
        Twice
    )]
    public async Task What_the_target_lacks_is_named_with_what_uses_it(string made, string step, string by, string remedy)
    {
        var (a, b) = await BothAsync(made + "; INSERT INTO t (id) VALUES (1)");
        await using var crossing = await Crossing.DefineAsync(a, b, All);
        var line = Assert.Single((await crossing.Engine.PlanAsync(All, cancellation)).Checks, line => !line.Ok);
        Assert.Equal((step, $"the target does not have it, and {by} uses it"), (line.Step, line.Found));
        await b.RunAsync(remedy);
        await crossing.Engine.RunAsync(Crossing.Name, "test", cancellation);
        await crossing.FollowsAsync();
        await crossing.SameAsync("t");
    }

    [Fact]
    public async Task An_extension_that_the_role_may_not_create_is_named()
    {
        var (a, b) = await BothAsync(
            "CREATE EXTENSION bloom; CREATE TABLE t (id int PRIMARY KEY, n int); CREATE INDEX ON t USING bloom (n)"
        );
        await b.RunAsync(
            $"CREATE ROLE writer_{b.Name} LOGIN PASSWORD 'made-up'; GRANT ALL ON DATABASE {b.Name} TO writer_{b.Name}; GRANT ALL ON "
                + $"SCHEMA public TO writer_{b.Name}"
        );
        await using var source = a.Source();
        await using var target = b.Target($"writer_{b.Name}", "made-up");
        var form = (await source.ReadTablesAsync(cancellation)).Single().Schema;
        var lines = await target.CheckTargetAsync(
            [form],
            new Dictionary<Core.Schemas.TableName, ExistingRows>(),
            new HashSet<Core.Schemas.TableName>(),
            cancellation
        );
        Assert.StartsWith(
            "the role may not create it",
            lines.Single(line => line.Step == "extension bloom").Found,
            StringComparison.Ordinal
        );
    }

    [Theory]
    [InlineData(
        "CREATE TABLE t (id int PRIMARY KEY DEFERRABLE)",
        "its primary key is deferrable",
        "ALTER TABLE public.t REPLICA IDENTITY FULL"
    )]
    [InlineData(
        "CREATE TABLE t (id int) PARTITION BY RANGE (id); CREATE TABLE t1 PARTITION OF t DEFAULT; ALTER TABLE t REPLICA IDENTITY FULL",
        "it has no primary key",
        "ALTER TABLE public.t REPLICA IDENTITY FULL; ALTER TABLE public.t1 REPLICA IDENTITY FULL"
    )]
    public async Task A_refused_table_says_what_lets_it_cross_and_that_does(string made, string said, string statements)
    {
        var (a, b) = await BothAsync(made);
        await using var crossing = await Crossing.DefineAsync(a, b, All);
        var line = (await crossing.Engine.PlanAsync(All, cancellation)).Checks.First(line => !line.Ok);
        Assert.Contains(said, line.Found, StringComparison.Ordinal);
        Assert.Contains(statements, line.Found.Replace("\"", "", StringComparison.Ordinal), StringComparison.Ordinal);
        await a.RunAsync(statements);
        Assert.True((await crossing.Engine.PlanAsync(All, cancellation)).Ready);
    }

    /// <summary>A server of that encoding takes any bytes for text; those that are no UTF-8 cannot be text on the target.</summary>
    [Fact]
    public async Task Text_of_unknown_encoding_has_to_be_accepted()
    {
        var a = await servers.A.MakeDatabaseAsync(encoding: "SQL_ASCII");
        var b = await servers.B.MakeDatabaseAsync();
        await a.RunAsync("CREATE TABLE t (id int PRIMARY KEY, v text); INSERT INTO t VALUES (1, 'plain'), (2, 'ä')");
        await using var crossing = await Crossing.DefineAsync(a, b, All);
        var line = Assert.Single((await crossing.Engine.PlanAsync(All, cancellation)).Checks, line => !line.Ok);
        Assert.Equal("encoding of the source", line.Step);
        Assert.True(line.MayAccept);
    }

    private static CrossingDefinition All { get; } =
        new(Crossing.Name, CrossingDefinition.Copy, "a", "b", new TableRules([new TableRule(Take: "public.*")]));

    private async Task<(Database A, Database B)> BothAsync(string made)
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(made);
        return (a, b);
    }
}
