using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>What becomes of a partitioned table's copy when parts come, go or are emptied, which the log does not tell.</summary>
public sealed class PartTests(TwoServers servers)
{
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    [Theory]
    [InlineData(
        "CREATE TABLE late (id int NOT NULL, v text); INSERT INTO late VALUES (201, 'brought'); ALTER TABLE whole ATTACH PARTITION "
            + "late FOR VALUES FROM (200) TO (300)",
        "late was attached",
        true
    )]
    [InlineData(
        "CREATE TABLE late (id int NOT NULL, v text); INSERT INTO late VALUES (201, 'brought')§ALTER TABLE whole ATTACH PARTITION "
            + "late FOR VALUES FROM (200) TO (300)",
        "late was attached",
        false
    )]
    [InlineData(
        "CREATE TABLE late (id int NOT NULL, v text) PARTITION BY RANGE (id); CREATE TABLE deep PARTITION OF late FOR VALUES FROM "
            + "(200) TO (250); INSERT INTO late VALUES (201, 'brought')§ALTER TABLE whole ATTACH PARTITION late FOR VALUES FROM (200) "
            + "TO (300)",
        "deep was attached",
        true
    )]
    [InlineData("ALTER TABLE whole DETACH PARTITION second", "second was detached or dropped", true)]
    [InlineData("DROP TABLE second", "second was detached or dropped", true)]
    [InlineData("TRUNCATE second", "second got a new file", false)]
    [InlineData("TRUNCATE second", "second got a new file", true)]
    [InlineData("TRUNCATE whole§INSERT INTO whole VALUES (101, 'once more')§TRUNCATE second", "second got a new file", true)]
    public async Task What_the_log_does_not_tell_of_parts_holds_the_table_until_it_is_loaded_again(
        string statements,
        string said,
        bool isAway
    )
    {
        var (a, b) = await WholeAsync();
        await using var crossing = await Crossing.StartAsync(a, b, "public.whole", "public.beside");
        await crossing.FollowsAsync();
        await crossing.RunAsync(isAway, statements);
        await crossing.UntilAsync(() => Held(crossing) is not null, "the table being held");
        Assert.Contains(said, Held(crossing), StringComparison.Ordinal);
        await a.RunAsync("INSERT INTO beside VALUES (7, 'goes on')");
        await crossing.SameAsync("beside");
        await crossing.Engine.ReloadAsync(Crossing.Name, [new("public", "whole")], "test", cancellation);
        await crossing.SameAsync("whole");
        await a.RunAsync("INSERT INTO whole VALUES (42, 'seen again')");
        await crossing.SameAsync("whole");
        Assert.Null(Held(crossing));
    }

    [Theory]
    [InlineData(
        "CREATE TABLE late PARTITION OF whole FOR VALUES FROM (200) TO (300)§INSERT INTO whole VALUES (201, 'through the whole')",
        false
    )]
    [InlineData(
        "CREATE TABLE late PARTITION OF whole FOR VALUES FROM (200) TO (300) PARTITION BY RANGE (id)§CREATE TABLE deep PARTITION OF "
            + "late FOR VALUES FROM (200) TO (250)§INSERT INTO deep VALUES (202, 'through the part')",
        true
    )]
    [InlineData(
        "CREATE TABLE late (LIKE whole)§ALTER TABLE whole ATTACH PARTITION late FOR VALUES FROM (200) TO (300)§INSERT INTO late "
            + "VALUES (203, 'came later')",
        true
    )]
    [InlineData("TRUNCATE whole§INSERT INTO whole VALUES (104, 'after')", false)]
    [InlineData("TRUNCATE whole§INSERT INTO whole VALUES (104, 'after')", true)]
    [InlineData("BEGIN; DELETE FROM whole; TRUNCATE whole; INSERT INTO whole VALUES (105, 'after'); COMMIT", true)]
    [InlineData("TRUNCATE whole§TRUNCATE whole§INSERT INTO whole VALUES (106, 'after')", true)]
    [InlineData("VACUUM FULL second§INSERT INTO whole VALUES (108, 'after')", true)]
    [InlineData("VACUUM FULL second§INSERT INTO whole VALUES (108, 'after')", false)]
    [InlineData("ALTER TABLE second RENAME TO renamed§INSERT INTO whole VALUES (107, 'after')", true)]
    public async Task What_the_log_tells_goes_on(string statements, bool isAway)
    {
        var (a, b) = await WholeAsync();
        await using var crossing = await Crossing.StartAsync(a, b, "public.whole", "public.beside");
        await crossing.FollowsAsync();
        await crossing.RunAsync(isAway, statements);
        await crossing.SameAsync("whole");
        await Task.Delay(TimeSpan.FromSeconds(isAway ? 1 : 6), cancellation);
        await a.RunAsync("INSERT INTO whole VALUES (42, 'and goes on')");
        await crossing.SameAsync("whole");
        Assert.Null(Held(crossing));
    }

    /// <summary>However our own clock goes: a stop at a time goes by the server's.</summary>
    [Fact]
    public async Task What_is_seen_beside_the_log_has_the_servers_time()
    {
        var (a, _) = await WholeAsync();
        await using var source = new PostgreSqlSource(a.Settings(), a.Names, new ClockAhead());
        var whole = new TableName("public", "whole");
        await using var reader = await source.OpenLogAsync(
            LogRequest.First((await source.BeginLogAsync(cancellation)).Position, new HashSet<TableName> { whole }),
            cancellation
        );
        var before = DateTimeOffset.UtcNow;
        await a.RunAsync("CREATE TABLE late (id int NOT NULL, v text); INSERT INTO late VALUES (201, 'brought')");
        await a.RunAsync("ALTER TABLE whole ATTACH PARTITION late FOR VALUES FROM (200) TO (300)");
        List<LogFragment> fragments = [];
        for (var id = 301; fragments.Count == 0; id++)
        {
            Assert.True(DateTimeOffset.UtcNow < before.AddSeconds(180), "nothing is seen");
            await a.RunAsync($"INSERT INTO beside VALUES ({id}, 'moves the log')");
            fragments.AddRange((await reader.ReadAsync(TimeSpan.FromSeconds(1), cancellation)).Fragments);
        }

        Assert.InRange(Assert.Single(fragments).CommittedAt, before.AddSeconds(-1), DateTimeOffset.UtcNow.AddSeconds(1));
        await reader.DisposeAsync();
        await source.EndLogAsync(cancellation);
    }

    private sealed class ClockAhead : TimeProvider
    {
        public override DateTimeOffset GetUtcNow() => base.GetUtcNow().AddHours(1);
    }

    private static string? Held(Crossing crossing) =>
        crossing.Status.Tables.FirstOrDefault(table => table.Source.Name == "whole" && table.State == TableState.Held)?.Cause;

    private async Task<(Database From, Database To)> WholeAsync()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(
            """
            CREATE TABLE whole (id int NOT NULL, v text) PARTITION BY RANGE (id);
            CREATE TABLE first PARTITION OF whole FOR VALUES FROM (0) TO (100);
            CREATE TABLE second PARTITION OF whole FOR VALUES FROM (100) TO (200);
            CREATE TABLE beside (id int PRIMARY KEY, v text);
            ALTER TABLE whole ADD PRIMARY KEY (id);
            INSERT INTO whole SELECT i, 'row ' || i FROM generate_series(1, 199) i WHERE i NOT IN (42, 101, 104, 105, 106, 107, 108);
            """
        );
        return (a, b);
    }
}
