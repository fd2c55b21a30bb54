using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;
using Vestige.Core.SchemaVersions;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>
/// What keeps rows out at the source no longer must not keep them out of the copy, which has the same constraints: it would refuse what
/// the source has taken.
/// </summary>
public sealed class CarriedConstraintTests(TwoServers servers)
{
    private const string Tables = """
        CREATE TABLE p (id int PRIMARY KEY, code int UNIQUE);
        CREATE TABLE t (id int PRIMARY KEY, code int CONSTRAINT one_code UNIQUE, n int CONSTRAINT small CHECK (n < 100),
            p int REFERENCES p (code), r int4range, CONSTRAINT apart EXCLUDE USING gist (r WITH &&));
        CREATE UNIQUE INDEX by_n ON t (n) WHERE n > 0;
        INSERT INTO p SELECT i, i FROM generate_series(1, 20) i;
        INSERT INTO t SELECT i, i, i, i, int4range(i * 10, i * 10 + 5) FROM generate_series(1, 20) i;
        """;

    /// <summary>The names of what keeps rows out, as a server has them.</summary>
    private const string Guards = """
        SELECT string_agg(name, ' ' ORDER BY name) FROM (
            SELECT conname AS name FROM pg_constraint WHERE conrelid = 't'::regclass AND contype <> 'n'
            UNION SELECT c.relname FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid
                WHERE i.indrelid = 't'::regclass AND i.indisunique) g
        """;

    [Theory]
    [InlineData("ALTER TABLE t DROP CONSTRAINT one_code§INSERT INTO t VALUES (100, 1)§UPDATE t SET code = 2")]
    [InlineData("ALTER TABLE t DROP CONSTRAINT small§INSERT INTO t VALUES (100, 100, 1000)")]
    [InlineData("DROP INDEX by_n§UPDATE t SET n = 1")]
    [InlineData("ALTER TABLE t DROP CONSTRAINT apart§UPDATE t SET r = '[1,9)'")]
    [InlineData(
        "ALTER TABLE t RENAME CONSTRAINT one_code TO other_code§UPDATE t SET n = n + 50§ALTER TABLE t DROP CONSTRAINT other_code§"
            + "UPDATE t SET code = 1"
    )]
    [InlineData("ALTER INDEX by_n RENAME TO by_other§UPDATE t SET code = code + 50§DROP INDEX by_other§UPDATE t SET n = 7")]
    [InlineData("ALTER TABLE p DROP CONSTRAINT p_code_key CASCADE§UPDATE p SET code = 1§INSERT INTO t VALUES (100, 100, 50, 9999)")]
    [InlineData(
        "BEGIN; UPDATE t SET code = code + 100; ALTER TABLE t DROP CONSTRAINT one_code, ADD c int DEFAULT 3; UPDATE t SET code = 1; COMMIT"
    )]
    [InlineData("ALTER TABLE t DROP CONSTRAINT small, ADD CONSTRAINT small CHECK (n < 10000)§UPDATE t SET n = n + 1000")]
    [InlineData(
        "ALTER TABLE t ALTER CONSTRAINT t_p_fkey DEFERRABLE§UPDATE t SET n = n + 30§ALTER TABLE t DROP CONSTRAINT t_p_fkey§"
            + "UPDATE t SET p = 700"
    )]
    public async Task What_keeps_rows_out_no_longer_is_dropped_on_the_target(string statements)
    {
        foreach (var isAway in new[] { false, true })
        {
            var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
            await a.RunAsync(Tables);
            await using var crossing = await Crossing.StartAsync(a, b);
            await crossing.FollowsAsync();
            await crossing.UntilAsync(() => HasReferences(b), "references");
            await a.RunAsync("UPDATE t SET n = n WHERE id = 1");
            await crossing.SameAsync("t", "p");
            if (isAway)
            {
                await crossing.EndAsync();
            }

            foreach (var statement in statements.Split('§'))
            {
                await a.RunAsync(statement);
            }

            if (isAway)
            {
                await crossing.BeginAsync();
            }

            await crossing.SameAsync("t", "p");
            Assert.Null(crossing.Status.Fault);
            Assert.All(crossing.Status.Tables, table => Assert.Null(table.Cause));
            var (there, here) = (await a.AskAsync(Guards), await b.AskAsync(Guards));
            Assert.Subset(there.Split(' ').ToHashSet(), here.Split(' ').ToHashSet());
        }
    }

    private static bool HasReferences(Database b) =>
        b.AskAsync(Guards).GetAwaiter().GetResult().Contains("t_p_fkey", StringComparison.Ordinal);

    [Fact]
    public async Task A_constraint_stays_where_a_rule_says_so()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(Tables);
        await using var crossing = await Crossing.StartAsync(
            a,
            b,
            new CrossingDefinition(Crossing.Name, CrossingDefinition.Copy, "a", "b", new TableRules([new TableRule(Take: "public.*")]))
            {
                SchemaChanges = [new SchemaChangeRule("*", SchemaChangeAction.LeaveOut, [SchemaChangeKind.ConstraintDropped])],
            }
        );
        await crossing.FollowsAsync();
        var before = await b.AskAsync(Guards);
        await a.RunAsync("ALTER TABLE t DROP CONSTRAINT small");
        await a.RunAsync("UPDATE t SET n = n + 50");
        await crossing.SameAsync("t", "p");
        Assert.Contains("small", before, StringComparison.Ordinal);
        Assert.Contains("small", await b.AskAsync(Guards), StringComparison.Ordinal);
    }
}
