using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>
/// The functions by which the server tells what a catalogue row means look at the catalogue as it is now, not as it was when the
/// statement began (PostgreSQL manual, System Catalog Information Functions: they return null for an object that is gone).
/// </summary>
public sealed class CatalogueTests(TwoServers servers)
{
    private const string Made = """
        CREATE SCHEMA churn;
        CREATE FUNCTION churn.twice(int) RETURNS int IMMUTABLE LANGUAGE sql AS 'SELECT $1 * 2';
        CREATE DOMAIN churn.small AS int CONSTRAINT most CHECK (VALUE < 1000);
        CREATE TYPE churn.pair AS (a int, b text);
        CREATE TABLE churn.one (id int PRIMARY KEY, n churn.small DEFAULT 7, p churn.pair,
            g int GENERATED ALWAYS AS (churn.twice(id)) STORED, CONSTRAINT odd CHECK (churn.twice(id) > 0), CONSTRAINT once UNIQUE (n));
        CREATE INDEX by_twice ON churn.one (churn.twice(id));
        CREATE TABLE churn.two (id int PRIMARY KEY REFERENCES churn.one) PARTITION BY RANGE (id);
        CREATE TABLE churn.two_a PARTITION OF churn.two FOR VALUES FROM (0) TO (10)
        """;

    /// <summary>Few; all of them in the full proofs.</summary>
    private static readonly int Readings = Environment.GetEnvironmentVariable("VESTIGE_KILLS") is null ? 30 : 100;

    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    [Fact]
    public async Task It_is_read_while_tables_keys_indexes_and_types_are_made_and_dropped()
    {
        var database = await servers.A.MakeDatabaseAsync();
        await database.RunAsync("CREATE TABLE still (id int PRIMARY KEY, v text CONSTRAINT said CHECK (v <> ''))");
        using var enough = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
        var churn = Task.WhenAll(ChurnAsync(database, enough.Token), ChurnKeysAsync(database, enough.Token));
        var source = database.Source();
        var met = 0;
        for (var read = 0; read < (met == 0 ? 1000 : Readings) && !churn.IsCompleted; read++)
        {
            var tables = await source.ReadTablesAsync(cancellation);
            var still = Assert.Single(tables, table => table.Schema.Name.Name == "still");
            Assert.Equal([0], still.Schema.KeyOrdinals);
            met += tables.Count(table => table.Schema.Name.Schema == "churn");
        }

        await enough.CancelAsync();
        await churn;
        Assert.True(met > 0, "No reading met a table that is made and dropped.");
    }

    [Fact]
    public async Task A_table_that_comes_while_the_catalogue_is_read_is_described_whole_or_not_at_all()
    {
        var database = await servers.A.MakeDatabaseAsync();
        using var enough = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
        var churn = ComeAndGoAsync(database, enough.Token);
        await using var source = database.Source();
        var met = 0;
        for (var read = 0; read < (met == 0 ? 1000 : Readings) && !churn.IsCompleted; read++)
        {
            var tables = await source.ReadTablesAsync(cancellation);
            Assert.All(tables, table => Assert.Equal(2, table.Schema.Columns.Count));
            Assert.All(tables, table => Assert.Equal([0], table.Schema.KeyOrdinals));
            met += tables.Count;
        }

        await enough.CancelAsync();
        await churn;
        Assert.True(met > 0, "No reading met a table that is made and dropped.");
    }

    private static async Task ComeAndGoAsync(Database database, CancellationToken enough)
    {
        await using var connection = await database.OpenAsync();
        for (var table = 3; !enough.IsCancellationRequested; table++)
        {
            await using var command = connection.CreateCommand();
            command.CommandText =
                $"CREATE TABLE come_{table} (id int PRIMARY KEY, v text); DROP TABLE IF EXISTS come_{table - 3}";
            await command.ExecuteNonQueryAsync(CancellationToken.None);
            await Task.Delay(table % 5, CancellationToken.None);
        }
    }

    [Fact]
    public async Task A_crossing_goes_on_while_other_tables_come_and_go()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync("CREATE TABLE still (id int PRIMARY KEY, v text)");
        await using var crossing = await Crossing.StartAsync(a, b, "public.still");
        await crossing.FollowsAsync();
        using var enough = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
        var churn = Task.WhenAll(ChurnAsync(a, enough.Token), ChurnKeysAsync(a, enough.Token));
        for (var row = 1; row < 100 && !churn.IsCompleted; row++)
        {
            await a.RunAsync($"INSERT INTO still VALUES ({row}, 'still')");
            Assert.NotEqual(CrossingState.Faulted, crossing.Status.State);
        }

        await crossing.SameAsync("still");
        await enough.CancelAsync();
        await churn;
    }

    private static async Task ChurnAsync(Database database, CancellationToken enough)
    {
        var pause = 0;
        while (!enough.IsCancellationRequested)
        {
            await database.RunAsync(Made);
            await Task.Delay(pause = (pause + 17) % 100, CancellationToken.None);
            await database.RunAsync("SET client_min_messages = warning; DROP SCHEMA churn CASCADE");
        }
    }

    private static async Task ChurnKeysAsync(Database database, CancellationToken enough)
    {
        await database.RunAsync("CREATE TABLE keyed (id int CONSTRAINT named PRIMARY KEY, v int); CREATE INDEX by_v ON keyed (v)");
        while (!enough.IsCancellationRequested)
        {
            await database.RunAsync("ALTER TABLE keyed DROP CONSTRAINT named; DROP INDEX by_v");
            await database.RunAsync("ALTER TABLE keyed ADD CONSTRAINT named PRIMARY KEY (id); CREATE INDEX by_v ON keyed (v)");
        }
    }
}
