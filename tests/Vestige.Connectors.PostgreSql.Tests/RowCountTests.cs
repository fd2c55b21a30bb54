using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>
/// Rows as pages show them: counted up to a bound, else estimated as the server's own planner would (PostgreSQL manual, pg_class:
/// reltuples). What is shown never reads a large table from end to end, which is seen in the blocks that the server says it read.
/// </summary>
public sealed class RowCountTests(TwoServers servers)
{
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    [Fact]
    public async Task Few_rows_are_counted_and_many_are_estimated()
    {
        var database = await servers.A.MakeDatabaseAsync();
        await database.RunAsync(
            """
            CREATE TABLE few (id int PRIMARY KEY); INSERT INTO few SELECT generate_series(1, 10000);
            CREATE TABLE many (id int, branch text) WITH (autovacuum_enabled = off);
            INSERT INTO many SELECT i, 'b' || i % 2 FROM generate_series(1, 300000) i;
            CREATE TABLE parts (id int) PARTITION BY RANGE (id);
            CREATE TABLE parts_a PARTITION OF parts FOR VALUES FROM (0) TO (10000);
            CREATE TABLE parts_b PARTITION OF parts FOR VALUES FROM (10000) TO (90000);
            INSERT INTO parts SELECT generate_series(0, 79999);
            CREATE VIEW seen AS SELECT * FROM many
            """
        );
        await using var source = database.Source();
        IRowLookup lookup = source;
        Task<RowCount> CountAsync(string table, SharedRows? only = null) =>
            lookup.EstimateAsync(new TableName("public", table), only, cancellation);

        Assert.Equal(new RowCount(10_000), await CountAsync("few"));
        Assert.Equal(new RowCount(RowCount.MostCounted, RowPrecision.Over), await CountAsync("many"));
        Assert.Equal(new RowCount(RowCount.MostCounted, RowPrecision.Over), await CountAsync("parts"));
        await database.RunAsync("ANALYZE");
        var many = await CountAsync("many");
        Assert.Equal(RowPrecision.About, many.Precision);
        Assert.InRange(many.Rows, 290_000, 310_000);
        Assert.InRange((await CountAsync("parts")).Rows, 78_000, 82_000);
        Assert.Equal(RowPrecision.Over, (await CountAsync("seen")).Precision);
        Assert.Equal(RowPrecision.Over, (await CountAsync("many", new SharedRows("branch", "b1"))).Precision);
        Assert.Equal(new RowCount(0), await CountAsync("many", new SharedRows("branch", "none")));

        // 300 000 rows lie in about 1 600 blocks; 10 001 of them in about 55. The server does not read the table on its own meanwhile, but
        // a session may tell late what it has read before.
        var reads = new List<int>();
        for (var i = 0; i < 4 && reads.TrueForAll(read => read > 200); i++)
        {
            await database.RunAsync("SELECT pg_stat_reset()");
            await CountAsync("many");
            await database.RunAsync("SELECT pg_stat_force_next_flush()");
            reads.Add(
                int.Parse(
                    await database.AskAsync(
                        "SELECT sum(heap_blks_read + heap_blks_hit) FROM pg_statio_user_tables WHERE relname = 'many'"
                    ),
                    System.Globalization.CultureInfo.InvariantCulture
                )
            );
        }

        Assert.InRange(reads[^1], 0, 200);
    }
}
