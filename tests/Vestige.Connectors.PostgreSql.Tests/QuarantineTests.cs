using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;
using Vestige.Engine.Quarantining;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>Rows that a server refuses by a constraint of its own wait, while the server's own benchmark writes on.</summary>
public sealed class QuarantineTests(TwoServers servers)
{
    [Fact]
    public async Task Under_load_all_but_the_refused_rows_agree_and_once_allowed_all_do()
    {
        var cancellation = TestContext.Current.CancellationToken;
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.Cluster.ProgramAsync("pgbench", "-i", "-q", "-s", "1", a.Name);
        await using var crossing = await Crossing.StartAsync(a, b, Definition(new QuarantineRule(Rows: 100_000)));
        await crossing.FollowsAsync();
        await b.AskAsync("ALTER TABLE pgbench_tellers ADD CONSTRAINT odd CHECK (tid % 5 <> 0 OR tbalance % 3 <> 1)");

        // Balances are random, and of a batch only the last of each row is seen: some rounds may meet none that is refused.
        for (var round = 0; round < 20 && crossing.Engine.Quarantine.Waiting(Crossing.Name)!.Count == 0; round++)
        {
            await a.Cluster.ProgramAsync("pgbench", "-c", "2", "-t", "400", "-n", a.Name);
            await crossing.SameAsync("pgbench_accounts", "pgbench_branches", "pgbench_history");
        }

        Assert.Equal(CrossingState.Following, crossing.Status.State);
        var waiting = crossing.Engine.Quarantine.Waiting(Crossing.Name)!;
        var refused = waiting
            .Where(change => change.State == WaitingState.Refused)
            .Select(change => change.Change.After.TextAt(0))
            .ToHashSet();
        Assert.NotEmpty(refused);
        Assert.Contains("odd", waiting.First(change => change.State == WaitingState.Refused).Answer, StringComparison.Ordinal);

        // A row that waits has, on the target, the last version before the first that was refused; the others are as at the source.
        var others =
            "SELECT coalesce(string_agg(tid || ' ' || tbalance, ',' ORDER BY tid), '') FROM pgbench_tellers WHERE tid NOT IN "
            + $"({string.Join(", ", refused)})";
        Assert.Equal(await a.AskAsync(others), await b.AskAsync(others));
        Assert.NotEqual(await a.DigestAsync("pgbench_tellers"), await b.DigestAsync("pgbench_tellers"));

        await b.AskAsync("ALTER TABLE pgbench_tellers DROP CONSTRAINT odd");
        await crossing.Engine.Quarantine.RetryAsync(
            Crossing.Name,
            [.. crossing.Engine.Quarantine.Waiting(Crossing.Name)!.Select(change => change.Id)],
            "test",
            cancellation
        );
        await crossing.SameAsync("pgbench_tellers");
        Assert.Empty(crossing.Engine.Quarantine.Waiting(Crossing.Name)!);
    }

    [Fact]
    public async Task A_transaction_and_a_large_one_go_on_without_their_refused_rows()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.AskAsync(
            "CREATE TABLE parent (id int PRIMARY KEY, v text); CREATE TABLE child (id int PRIMARY KEY, parent int REFERENCES parent, "
                + "v text); INSERT INTO parent VALUES (1, 'one')"
        );
        await using var crossing = await Crossing.StartAsync(
            a,
            b,
            Definition(new QuarantineRule(Rows: 2)) with
            {
                Tables = new TableRules([new TableRule(Take: "public.*")]),
                Apply = null,
            }
        );
        await crossing.FollowsAsync();
        await b.AskAsync("ALTER TABLE parent ADD CHECK (v <> 'two')");
        await a.AskAsync(
            "BEGIN; INSERT INTO parent VALUES (2, 'two'), (3, 'three'); INSERT INTO child VALUES (1, 2, 'x'), (2, 3, 'y'); COMMIT"
        );
        await crossing.UntilAsync(() => crossing.Engine.Quarantine.Waiting(Crossing.Name)!.Count == 1, "the parent aside");
        Assert.Equal("1,3", await b.AskAsync("SELECT string_agg(id::text, ',' ORDER BY id) FROM parent"));
        Assert.Equal("1,2", await b.AskAsync("SELECT string_agg(id::text, ',' ORDER BY id) FROM child"));

        await b.AskAsync("ALTER TABLE child ADD CHECK (id <> 3000)");
        await a.AskAsync("INSERT INTO child SELECT i, 1, repeat('long', 600) || i FROM generate_series(100, 4100) i");
        await crossing.UntilAsync(
            () => crossing.Engine.Quarantine.Waiting(Crossing.Name)!.Count == 2,
            "one row of the large transaction aside"
        );
        Assert.Equal("4002", await b.AskAsync("SELECT count(*) FROM child"));
        Assert.Equal(
            "INSERT INTO \"public\".\"child\"",
            crossing
                .Target("b")
                .Tables.StatementFor(
                    crossing.Engine.Quarantine.Waiting(Crossing.Name)![1].Schema,
                    crossing.Engine.Quarantine.Waiting(Crossing.Name)![1].Change
                )[..28]
        );
    }

    private static CrossingDefinition Definition(QuarantineRule rule) =>
        new(
            Crossing.Name,
            CrossingDefinition.Copy,
            "a",
            "b",
            new TableRules([new TableRule(Take: "public.pgbench_*")]),
            Apply: [new ApplyRule("*_history", ApplyMode.InsertOnly)],
            Quarantine: rule
        );
}
