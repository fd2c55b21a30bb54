using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Engine.Faults;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>
/// Several tables of equal form that go into one, each row with where it came from; the server itself reckons what should be there.
/// </summary>
public sealed class CombineTests(TwoServers servers)
{
    private const string Into = "dw.loan";
    private static readonly string[] Branches = ["north", "south", "west"];
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    [Fact]
    public async Task Rows_of_several_tables_stand_in_one_and_each_follows_its_own()
    {
        var (a, b) = (await MakeAsync(), await servers.B.MakeDatabaseAsync());
        await using var crossing = await Crossing.StartAsync(a, b, Definition("north.loan", "south.loan", "west.loan"));
        await crossing.FollowsAsync();
        await AgreeAsync(crossing, a, b, Branches);
        Assert.Equal(
            "branch,id",
            await b.AskAsync(
                "SELECT string_agg(a.attname, ',' ORDER BY array_position(i.indkey::int2[], a.attnum)) FROM pg_index i JOIN "
                    + "pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = ANY (i.indkey) WHERE i.indrelid = 'dw.loan'::regclass "
                    + "AND i.indisprimary"
            )
        );

        await a.RunAsync(
            "BEGIN; UPDATE north.loan SET kind = 'map' WHERE id % 3 = 0; UPDATE south.loan SET id = id + 100000 WHERE id % 5 = 0; "
                + "DELETE FROM west.loan WHERE id % 2 = 0; INSERT INTO west.loan VALUES (0, 'film'); COMMIT"
        );
        await AgreeAsync(crossing, a, b, Branches);

        // A truncation of one empties what came from it and nothing else, also when others change in the same transaction.
        await a.RunAsync(
            "BEGIN; UPDATE south.loan SET kind = 'x' WHERE id = 1; TRUNCATE north.loan; INSERT INTO north.loan VALUES (7, 'after'); COMMIT"
        );
        await AgreeAsync(crossing, a, b, Branches);
        Assert.All(crossing.Status.Tables, table => Assert.Equal(0, table.Tally.Unexpected.Total));
    }

    [Fact]
    public async Task One_of_them_is_loaded_again_added_or_leaves_while_the_others_stand()
    {
        var (a, b) = (await MakeAsync(), await servers.B.MakeDatabaseAsync());
        await using var crossing = await Crossing.StartAsync(a, b, Definition("north.loan", "south.loan"));
        await crossing.FollowsAsync();
        await b.RunAsync("UPDATE dw.loan SET kind = 'spoilt'");
        await crossing.Engine.ReloadAsync(Crossing.Name, [TableName.Parse("south.loan")], "test", cancellation);
        await crossing.UntilAsync(() => crossing.Status.Tables.All(table => table.State == TableState.Following), "all tables to follow");
        Assert.Equal(
            "3000 3000",
            await b.AskAsync(
                "SELECT count(*) FILTER (WHERE kind = 'spoilt') || ' ' || count(*) FILTER (WHERE branch = 'south' AND kind <> "
                    + "'spoilt') FROM dw.loan"
            )
        );
        await crossing.Engine.ReloadAsync(Crossing.Name, [TableName.Parse("north.loan")], "test", cancellation);
        await AgreeAsync(crossing, a, b, ["north", "south"]);

        await crossing.Engine.ChangeAsync(Definition("north.loan", "south.loan", "west.loan"), "test", cancellation);
        await AgreeAsync(crossing, a, b, Branches);
        Assert.Equal(
            3000,
            await crossing.Target("b").Lookup.CountAsync(TableName.Parse(Into), new SharedRows("branch", "west"), cancellation)
        );

        // Another form of one table would need another form of the table that all are in.
        await a.RunAsync("UPDATE west.loan SET kind = kind || 1 WHERE id = 1");
        await AgreeAsync(crossing, a, b, Branches);
        await a.RunAsync("ALTER TABLE west.loan ADD COLUMN extra int; INSERT INTO west.loan VALUES (9999, 'n', 1)");
        await crossing.UntilAsync(() => crossing.Status.Tables.Any(table => table.Cause is not null), "the held table");
        await crossing.Engine.ReloadAsync(Crossing.Name, [TableName.Parse("west.loan")], "test", cancellation);
        var reason = "rows of other source tables";
        await crossing.UntilAsync(
            () => crossing.Status.Tables.Any(table => table.Cause?.Contains(reason, StringComparison.Ordinal) == true),
            "the reason why it cannot be loaded"
        );
        Assert.Null(crossing.Status.Fault);
        Assert.Equal("9000", await b.AskAsync("SELECT count(*) FROM dw.loan"));
    }

    [Fact]
    public async Task What_cannot_be_combined_is_told_before_the_start()
    {
        var (a, b) = (await MakeAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(
            "ALTER TABLE south.loan ADD COLUMN extra int; CREATE TABLE north.loan_old (id bigint PRIMARY KEY, kind text NOT NULL)"
        );
        await using var crossing = await Crossing.DefineAsync(a, b, Definition("north.*", "south.loan"));
        var refused = await Assert.ThrowsAsync<NotReadyException>(() => crossing.Engine.RunAsync(Crossing.Name, "test", cancellation));
        Assert.Equal(["form of dw.loan", "origin north"], refused.Checks.Where(line => !line.Ok).Select(line => line.Step).Order());
    }

    private static CrossingDefinition Definition(params string[] tables) =>
        new(
            Crossing.Name,
            CrossingDefinition.Copy,
            "a",
            "b",
            new TableRules([.. tables.Select(table => new TableRule(Take: table))]),
            Treatment: [new TreatmentStep("*.loan*", Combine: new CombinedTable(Into, "branch", OriginName.Schema))]
        );

    private async Task<Database> MakeAsync()
    {
        var a = await servers.A.MakeDatabaseAsync();
        foreach (var branch in Branches)
        {
            await a.RunAsync(
                $"CREATE SCHEMA {branch}; CREATE TABLE {branch}.loan (id bigint PRIMARY KEY, kind text NOT NULL DEFAULT '{branch}'); "
                    + $"INSERT INTO {branch}.loan SELECT i, '{branch} ' || i FROM generate_series(1, 3000) i"
            );
        }

        return a;
    }

    private static async Task AgreeAsync(Crossing crossing, Database a, Database b, string[] branches)
    {
        var expected =
            $"({string.Join(" UNION ALL ", branches.Select(branch => $"SELECT '{branch}' AS branch, id, kind FROM {branch}.loan"))})";
        var (wanted, found) = ("", "");
        await crossing.UntilAsync(
            () =>
                (wanted = a.DigestAsync(expected).GetAwaiter().GetResult())
                == (found = b.DigestAsync($"(SELECT branch, id, kind FROM {Into})").GetAwaiter().GetResult()),
            $"{wanted}, {found}"
        );
    }
}
