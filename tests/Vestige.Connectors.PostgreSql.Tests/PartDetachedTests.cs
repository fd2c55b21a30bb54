using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>A partition that is detached or dropped takes its rows with it, and the log does not mention them.</summary>
public sealed class PartDetachedTests(TwoServers servers)
{
    private const string Tables = """"
        CREATE TABLE whole (id int, region text, "the ""day""" timestamptz, v text, PRIMARY KEY (id, region, "the ""day"""))
            PARTITION BY LIST (region);
        CREATE TABLE north PARTITION OF whole FOR VALUES IN ('north', 'it''s far') PARTITION BY RANGE ("the ""day""");
        CREATE TABLE north_1 PARTITION OF north FOR VALUES FROM (MINVALUE) TO ('2026-02-01 00:00:00+02');
        CREATE TABLE north_2 PARTITION OF north FOR VALUES FROM ('2026-02-01 00:00:00+02') TO (MAXVALUE);
        CREATE TABLE south PARTITION OF whole FOR VALUES IN ('south');
        INSERT INTO whole SELECT i, (ARRAY['north', 'south', 'it''s far'])[i % 3 + 1],
            '2026-01-31 12:00:00+02'::timestamptz + (i || ' hours')::interval, 'v' FROM generate_series(1, 60) i;
        CREATE TABLE beside (id int PRIMARY KEY, v text);
        """";

    private const string South = "INSERT INTO whole VALUES (99, 'south', now(), 'new')";
    private static readonly TableName Whole = new("public", "whole");
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    [Theory]
    [InlineData("ALTER TABLE north DETACH PARTITION north_1", false)]
    [InlineData("DROP TABLE north_1", true)]
    [InlineData("ALTER TABLE whole DETACH PARTITION north§INSERT INTO whole VALUES (99, 'south', now(), 'new')", true)]
    [InlineData("DROP TABLE south, north_2", false)]
    [InlineData("TRUNCATE south", false)]
    [InlineData("TRUNCATE south§DROP TABLE north_1", true)]
    [InlineData(
        "DROP TABLE south§CREATE TABLE west PARTITION OF whole FOR VALUES IN ('west')§INSERT INTO whole VALUES (98, 'west', now(), 'n')",
        true
    )]
    [InlineData("DROP TABLE north_1§CREATE TABLE again PARTITION OF north FOR VALUES FROM (MINVALUE) TO ('2001-01-01')", true)]
    public async Task It_waits_for_a_person_and_its_rows_are_deleted_on_the_copy(string done, bool isAway)
    {
        var (a, b) = await BothAsync();
        await using var crossing = await Crossing.StartAsync(a, b, "public.whole", "public.beside");
        await crossing.FollowsAsync();
        await crossing.RunAsync(isAway, done);
        await crossing.UntilAsync(() => Table(crossing)?.MayContinue == true, "the table waiting");
        Assert.Contains("its partition public.", Table(crossing)!.Cause, StringComparison.Ordinal);
        var statements = HeldCause.StatementsOf(Table(crossing)!.Cause!);
        Assert.Contains("DELETE FROM \"public\".\"whole\" WHERE", statements, StringComparison.Ordinal);
        Assert.Equal("60", await b.AskAsync("SELECT count(*)::text FROM whole WHERE id <= 60"));
        await a.RunAsync("INSERT INTO beside VALUES (7, 'goes on'); UPDATE whole SET v = 'later'");
        await crossing.SameAsync("beside");
        await crossing.Engine.Held.AgreeAsync(Crossing.Name, [Whole], "test", cancellation);
        await crossing.SameAsync("whole");
        Assert.Null(Table(crossing)!.Cause);
        await a.RunAsync("UPDATE whole SET v = 'after'");
        await crossing.SameAsync("whole");
        var versions = await crossing.Versions.OfTableAsync("a", Whole, cancellation);
        Assert.Contains(versions, version => version.Changes is [{ Kind: SchemaChangeKind.PartDetached }, ..]);
    }

    [Theory]
    [InlineData(SchemaChangeAction.Carry, null, "40")]
    [InlineData(SchemaChangeAction.LeaveOut, null, "60")]
    [InlineData(SchemaChangeAction.Hold, ApplyMode.InsertOnly, "60")]
    public async Task A_rule_decides_in_advance(SchemaChangeAction action, ApplyMode? mode, string rows)
    {
        var (a, b) = await BothAsync();
        var definition = new CrossingDefinition(
            Crossing.Name,
            CrossingDefinition.Copy,
            "a",
            "b",
            new TableRules([new TableRule(Take: "public.whole")]),
            Apply: mode is { } one ? [new ApplyRule("*", one)] : null,
            SchemaChanges: [new SchemaChangeRule("*", action, [SchemaChangeKind.PartDetached])]
        );
        await using var crossing = await Crossing.StartAsync(a, b, definition);
        await crossing.FollowsAsync();
        await crossing.RunAsync(isAway: true, "DROP TABLE south");
        await crossing.UntilAsync(() => crossing.Said.Exists(said => said.Contains("detached", StringComparison.Ordinal)), "told");
        await a.RunAsync("INSERT INTO whole VALUES (70, 'north', now(), 'new')");
        await crossing.UntilAsync(() => b.PollAsync("SELECT count(*)::text FROM whole WHERE id = 70").Result == "1", "goes on");
        Assert.Equal(rows, await b.AskAsync("SELECT count(*)::text FROM whole WHERE id < 70"));
        Assert.Null(Table(crossing)!.Cause);
    }

    /// <summary>Where rows within the bounds are or may be the source's, nothing can be agreed to.</summary>
    [Theory]
    [InlineData("DROP TABLE south§CREATE TABLE again PARTITION OF whole FOR VALUES IN ('south')§" + South)]
    [InlineData("CREATE TABLE rest PARTITION OF whole DEFAULT§DROP TABLE south§" + South)]
    [InlineData("DROP TABLE south§TRUNCATE north_1§INSERT INTO whole VALUES (99, 'north', '2001-01-01', 'new')")]
    [InlineData("DROP TABLE hashed_2", true)]
    public async Task It_is_held_where_the_bounds_do_not_say_which_rows_are_gone(string statements, bool isHashed = false)
    {
        var (a, b) = await BothAsync();
        if (isHashed)
        {
            await a.RunAsync(
                "DROP TABLE whole; CREATE TABLE whole (id int PRIMARY KEY, v text) PARTITION BY HASH (id); CREATE TABLE hashed_1 PARTITION "
                    + "OF whole FOR VALUES WITH (MODULUS 2, REMAINDER 0); CREATE TABLE hashed_2 PARTITION OF whole FOR VALUES WITH "
                    + "(MODULUS 2, REMAINDER 1); INSERT INTO whole SELECT i, 'v' FROM generate_series(1, 60) i"
            );
        }

        await using var crossing = await Crossing.StartAsync(a, b, "public.whole", "public.beside");
        await crossing.FollowsAsync();
        await crossing.RunAsync(isAway: true, statements);
        await crossing.UntilAsync(() => Table(crossing)?.State == TableState.Held, "the table being held");
        Assert.False(Table(crossing)!.MayContinue);
        await crossing.Engine.ReloadAsync(Crossing.Name, [Whole], "test", cancellation);
        await crossing.SameAsync("whole");
    }

    private static TableStatus? Table(Crossing crossing) => crossing.Status.Tables.FirstOrDefault(table => table.Source == Whole);

    private async Task<(Database From, Database To)> BothAsync()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(Tables);
        return (a, b);
    }
}
