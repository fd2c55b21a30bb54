using System.Globalization;
using Npgsql;
using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Core.Treatments;
using Vestige.Engine.Faults;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>
/// Changes that are applied again after others changed rows of the target. Both sides are compared by digests that the servers compute.
/// </summary>
public sealed class RewindTests(TwoServers servers)
{
    private const string Tables = """
        CREATE TABLE t (id int PRIMARY KEY, u int UNIQUE, v text, big text);
        CREATE TABLE c (id int PRIMARY KEY, t int REFERENCES t ON UPDATE CASCADE ON DELETE CASCADE, w numeric(9,2));
        """;

    private static readonly TableName T = new("public", "t");
    private static readonly TableName C = new("public", "c");
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    /// <summary>A few seeds; as many as there are kills in the full proofs.</summary>
    public static TheoryData<int> Seeds { get; } =
        [.. Enumerable.Range(1, int.Parse(Environment.GetEnvironmentVariable("VESTIGE_KILLS") ?? "3", CultureInfo.InvariantCulture))];

    [Theory]
    [MemberData(nameof(Seeds))]
    public async Task Whatever_was_done_to_rows_that_changed_since_the_target_ends_as_the_source(int seed)
    {
        var random = new Random(seed);
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync($"{Tables} INSERT INTO t SELECT i, i + 1000, 'v' FROM generate_series(1, 40) i");
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.SameAsync("t", "c");
        var position = await a.AskAsync("SELECT pg_current_wal_insert_lsn()::text");
        await a.RunAsync("UPDATE t SET v = 'touched'; INSERT INTO c SELECT id, id, 1 FROM t WHERE id < 20");
        for (var i = 0; i < 120; i++)
        {
            await RowWalk.TryAsync(a, RowWalk.Transaction(random));
        }

        await crossing.SameAsync("t", "c");
        using var ending = new CancellationTokenSource();
        var writing = WriteAsync(a, random.Next(), ending.Token);
        for (var round = 0; round < 2; round++)
        {
            await DamageAsync(b, random);
            await crossing.Engine.Rewinds.AskAsync(Crossing.Name, new StartPlace(position), [], "test", cancellation);
            if (random.Next(2) == 0)
            {
                await b.RunAsync(
                    "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE pid <> pg_backend_pid() AND datname = current_database()"
                );
            }

            await OverAsync(crossing);
        }

        await ending.CancelAsync();
        await writing;
        await crossing.SameAsync("t", "c");
        Assert.DoesNotContain(crossing.Status.Tables, table => table.Quarantined > 0);
    }

    /// <summary>What is asked for is not forgotten when the process ends meanwhile.</summary>
    [Fact]
    public async Task It_continues_after_a_restart()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(Tables);
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        var position = await a.AskAsync("SELECT pg_current_wal_insert_lsn()::text");
        await a.RunAsync(
            "INSERT INTO t SELECT i, i, 'v', repeat(md5(i::text), 40) FROM generate_series(1, 60000) i; DELETE FROM t WHERE id > 59990"
        );
        await crossing.SameAsync("t");
        await b.RunAsync(
            "DELETE FROM t WHERE id % 1000 = 0; UPDATE t SET v = 'x' WHERE id < 10; INSERT INTO t VALUES (59999, -1, 'extra')"
        );
        await crossing.Engine.Rewinds.AskAsync(Crossing.Name, new StartPlace(position), [T], "test", cancellation);
        await crossing.EndAsync();
        await crossing.BeginAsync();
        await OverAsync(crossing);
        await crossing.SameAsync("t", "c");
        var said = Assert.Single(crossing.Said, text => text.StartsWith("Applied again from", StringComparison.Ordinal));
        Assert.Contains($"{Figures.Of(59_990, "row")} written", said, StringComparison.Ordinal);
    }

    /// <summary>The other table continues while changes of one are applied again, and a stop comes after it.</summary>
    [Fact]
    public async Task A_stop_comes_where_all_tables_are_at_one_position()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(Tables);
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        var position = await a.AskAsync("SELECT pg_current_wal_insert_lsn()::text");
        await a.RunAsync("INSERT INTO t SELECT i, i, 'v', repeat(md5(i::text), 40) FROM generate_series(-1, 30000) i");
        await a.RunAsync("DELETE FROM t WHERE id < 1");
        await crossing.SameAsync("t");
        await b.RunAsync("DELETE FROM t WHERE id > 20; INSERT INTO t VALUES (-1, -1, 'extra')");
        await crossing.Engine.Rewinds.AskAsync(Crossing.Name, new StartPlace(position), [T], "test", cancellation);
        await a.RunAsync("INSERT INTO c VALUES (1, NULL, 1); UPDATE t SET v = 'later' WHERE id = 7");
        await crossing.Engine.StopAtAsync(Crossing.Name, null, "test", cancellation);
        await crossing.UntilAsync(() => crossing.Status.State == CrossingState.Stopped, "the stop");
        Assert.Equal(await a.DigestAsync("t"), await b.DigestAsync("t"));
        Assert.Equal(await a.DigestAsync("c"), await b.DigestAsync("c"));
        var said = Assert.Single(crossing.Said, text => text.StartsWith("Applied again from", StringComparison.Ordinal));
        Assert.Contains(
            $"{Figures.Of(30_000, "row")} written, of which the target lacked {Figures.Count(29_980)}",
            said,
            StringComparison.Ordinal
        );
        Assert.Contains("1 extra row removed", said, StringComparison.Ordinal);
    }

    /// <summary>A row that waits in quarantine, or of which a person has decided, stays as it is.</summary>
    [Fact]
    public async Task Decisions_of_people_are_left_alone()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(Tables);
        await using var crossing = await Crossing.StartAsync(
            a,
            b,
            Definition("public.*") with
            {
                Quarantine = new Core.Crossings.QuarantineRule(Rows: 10),
            }
        );
        await crossing.FollowsAsync();
        await b.RunAsync("ALTER TABLE t ADD CHECK (v <> 'bad')");
        var position = await a.AskAsync("SELECT pg_current_wal_insert_lsn()::text");
        await a.RunAsync("INSERT INTO t VALUES (1, 1, 'good'), (2, 2, 'bad'), (3, 3, 'bad')");
        await crossing.UntilAsync(() => crossing.Engine.Quarantine.Waiting(Crossing.Name)?.Count == 2, "two in quarantine");
        var dropped = crossing.Engine.Quarantine.Waiting(Crossing.Name)![0];
        await crossing.Engine.Quarantine.DropAsync(Crossing.Name, [dropped.Id], "not wanted", "test", cancellation);
        await b.RunAsync("UPDATE t SET v = 'x'");
        await crossing.Engine.Rewinds.AskAsync(Crossing.Name, new StartPlace(position), [], "test", cancellation);
        await OverAsync(crossing);
        Assert.Equal("1 good", await b.AskAsync("SELECT string_agg(id || ' ' || v, ',' ORDER BY id) FROM t"));
        Assert.Contains(crossing.Said, text => text.Contains("2 rows left alone because of quarantine", StringComparison.Ordinal));
    }

    /// <summary>Each is refused before anything is written, and only for the table that it concerns.</summary>
    [Theory]
    [InlineData("TRUNCATE t, c", "it was truncated")]
    [InlineData("ALTER TABLE t ADD z int; UPDATE t SET z = 1", "its schema was changed")]
    public async Task What_the_log_does_not_tell_is_refused(string statements, string why)
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync($"{Tables} CREATE TABLE e (id int PRIMARY KEY); INSERT INTO t SELECT i, i, 'v' FROM generate_series(1, 5) i");
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.SameAsync("t", "c");
        var position = await a.AskAsync("SELECT pg_current_wal_insert_lsn()::text");
        await a.RunAsync(statements);
        await a.RunAsync("INSERT INTO t (id, v) VALUES (99, 'after'); INSERT INTO e VALUES (1)");
        await crossing.SameAsync("t", "c", "e");
        var refusal = await Assert.ThrowsAsync<RequestRefusedException>(() =>
            crossing.Engine.Rewinds.AskAsync(Crossing.Name, new StartPlace(position), [T], "test", cancellation)
        );
        Assert.Contains(why, refusal.Message, StringComparison.Ordinal);
        var plan = await crossing.Engine.Rewinds.PlanAsync(Crossing.Name, new StartPlace(position), [], cancellation);
        Assert.Contains(plan.Possible, table => table.Table.Name == "e");
    }

    [Fact]
    public async Task Rows_that_are_not_made_of_the_row_alone_are_refused()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync($"{Tables} CREATE TABLE k (v text); ALTER TABLE k REPLICA IDENTITY FULL");
        var definition = Definition("public.*") with
        {
            Treatment =
            [
                new TreatmentStep("public.t", Marks: new ChangeMarkColumns(Operation: "op", CommittedAt: "changed_at")),
            ],
        };
        await using var crossing = await Crossing.StartAsync(a, b, definition);
        await crossing.FollowsAsync();
        var position = await a.AskAsync("SELECT pg_current_wal_insert_lsn()::text");
        await a.RunAsync("INSERT INTO t VALUES (1, 1, 'v'); INSERT INTO k VALUES ('x'); INSERT INTO c VALUES (1, 1, 1)");
        await crossing.SameAsync("k", "c");
        var plan = await crossing.Engine.Rewinds.PlanAsync(Crossing.Name, new StartPlace(position), [], cancellation);
        Assert.Equal([C], plan.Possible.Select(table => table.Table));
    }

    private static CrossingDefinition Definition(string take) =>
        new(Crossing.Name, CrossingDefinition.Copy, "a", "b", new TableRules([new TableRule(Take: take)]));

    private static Task OverAsync(Crossing crossing) =>
        crossing.UntilAsync(() => crossing.Engine.Rewinds.PendingOf(Crossing.Name) is null, "the changes to be applied again");

    private static async Task DamageAsync(Database b, Random random)
    {
        var (one, two) = (random.Next(60), random.Next(60));
        await b.RunAsync(
            "SET session_replication_role = replica; "
                + random.Next(4) switch
                {
                    0 => "DELETE FROM t; DELETE FROM c;",
                    1 => $"UPDATE t SET v = 'damaged', u = NULL WHERE id > {one}; DELETE FROM c WHERE id < {two};",
                    2 => $"DELETE FROM t WHERE id < {one}; UPDATE c SET w = -1;",
                    _ => "UPDATE t SET u = -u, big = 'damaged' WHERE u > 0; DELETE FROM t WHERE id % 2 = 0; DELETE FROM c;",
                }
        );
    }

    private static async Task WriteAsync(Database a, int seed, CancellationToken ending)
    {
        var random = new Random(seed);
        while (!ending.IsCancellationRequested)
        {
            await RowWalk.TryAsync(a, RowWalk.Transaction(random));
        }
    }
}
