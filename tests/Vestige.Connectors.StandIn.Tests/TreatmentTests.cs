using System.Globalization;
using Vestige.Core.Crossings;
using Vestige.Core.Treatments;
using Vestige.Engine.Faults;
using Xunit;

namespace Vestige.Connectors.StandIn.Tests;

/// <summary>Treated tables between two stand-ins, by load and by log; what should be there is reckoned by SQLite itself.</summary>
public sealed class TreatmentTests : IAsyncLifetime
{
    private const string Name = "a-to-b";
    private readonly TwoStandIns both = new();
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    public async ValueTask InitializeAsync() => await both.BeginAsync();

    public ValueTask DisposeAsync() => both.DisposeAsync();

    /// <summary>
    /// With a column left out before the key, the key is another ordinal on the target than on the source; the load goes in
    /// several chunks, so that it is asked for where each ends.
    /// </summary>
    [Fact]
    public async Task Rows_are_filtered_split_and_reckoned_as_the_database_itself_would()
    {
        await both.RunAsync(
            both.A,
            """
            CREATE TABLE loan (note TEXT, kind TEXT, id INTEGER PRIMARY KEY, days INTEGER);
            WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 30000)
            INSERT INTO loan SELECT 'note ' || i, CASE i % 4 WHEN 0 THEN 'book' WHEN 1 THEN 'film' WHEN 2 THEN 'map' END, i, i % 60 FROM n;
            """
        );
        await StartAsync(
            new TreatmentStep("a.loan", Keep: "days < 50"),
            new TreatmentStep("a.loan", LeaveOut: ["note"]),
            new TreatmentStep("a.loan", Compute: [new ComputedColumn("weeks", "days / 7")]),
            new TreatmentStep(
                "a.loan",
                Split:
                [
                    new SplitTable("b.book", "kind = 'book'"),
                    new SplitTable("b.picture", "kind IN ('film', 'map')"),
                    new SplitTable("b.rest"),
                ]
            )
        );
        await AgreeAsync();
        await both.RunAsync(
            both.A,
            "UPDATE loan SET kind = 'map' WHERE id % 8 = 0; UPDATE loan SET days = days + 20 WHERE id % 3 = 0; UPDATE loan SET id = "
                + "id + 100000 WHERE id % 5 = 0; DELETE FROM loan WHERE id % 7 = 0; UPDATE loan SET note = 'unseen' WHERE id % 11 = 0"
        );
        await AgreeAsync();
    }

    [Fact]
    public async Task Tables_of_one_form_stand_in_one_and_each_empties_its_own()
    {
        await both.RunAsync(
            both.A,
            "CREATE TABLE north (id INTEGER PRIMARY KEY, v TEXT); CREATE TABLE south (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO "
                + "north VALUES (1, 'n1'), (2, 'n2'); INSERT INTO south VALUES (1, 's1'), (3, 's3')"
        );
        await StartAsync(new TreatmentStep("*", Combine: new CombinedTable("b.stock", By: OriginName.Name)));
        await CombinedAsync("north 1 n1|north 2 n2|south 1 s1|south 3 s3");
        await both.RunAsync(
            both.A,
            "UPDATE north SET id = 5 WHERE id = 2; DELETE FROM south WHERE id = 3; INSERT INTO south VALUES (5, 's5')"
        );
        await CombinedAsync("north 1 n1|north 5 n2|south 1 s1|south 5 s5");
        await both.Engine.ReloadAsync(Name, [new("a", "north")], "test", cancellation);
        await both.WaitAsync(() => both.Engine.Status(Name)!.State == CrossingState.Following, "following again");
        await both.RunAsync(both.A, "DELETE FROM north");
        await CombinedAsync("south 1 s1|south 5 s5");

        Task CombinedAsync(string rows) =>
            both.WaitAsync(
                () =>
                    both.Rows(
                        "b.db",
                        "SELECT coalesce(group_concat(row, '|'), '') FROM (SELECT origin || ' ' || id || ' ' || v AS row FROM stock "
                            + "ORDER BY 1)"
                    )[0] == rows,
                rows
            );
    }

    [Fact]
    public async Task Every_version_stays_and_one_of_them_holds()
    {
        await both.RunAsync(both.A, "CREATE TABLE fine (id INTEGER PRIMARY KEY, amount INTEGER); INSERT INTO fine VALUES (1, 5), (2, 7)");
        await both.Engine.DefineAsync(
            Definition() with
            {
                Apply = [new ApplyRule("*", ApplyMode.KeepVersions, ValidTo: "until")],
            },
            "test",
            cancellation
        );
        await both.Engine.RunAsync(Name, "test", cancellation);
        await both.WaitAsync(() => both.Engine.Status(Name)!.State == CrossingState.Following, "following");
        await both.RunAsync(
            both.A,
            "UPDATE fine SET amount = 6 WHERE id = 1; UPDATE fine SET amount = 8 WHERE id = 1; DELETE FROM fine WHERE id = 2; INSERT "
                + "INTO fine VALUES (3, 1)"
        );
        await both.RunAsync(both.A, "UPDATE fine SET amount = 8 WHERE id = 1; UPDATE fine SET amount = 2 WHERE id = 3");
        const string Kept =
            "SELECT coalesce(group_concat(row, ', '), '') FROM (SELECT id || ' ' || amount || CASE WHEN valid_from IS NULL THEN ' "
            + "loaded' ELSE '' END || CASE WHEN until = 'infinity' THEN ' now' ELSE '' END AS row FROM fine ORDER BY id, until)";
        const string Wanted = "1 5 loaded, 1 8 now, 2 7 loaded, 3 1, 3 2 now";
        await both.WaitAsync(() => both.Rows("b.db", Kept)[0] == Wanted, Wanted);
        Assert.Equal(
            ["0"],
            both.Rows(
                "b.db",
                "SELECT CAST(count(*) AS TEXT) FROM fine a JOIN fine b ON b.id = a.id AND b.valid_from > a.valid_from AND a.until > "
                    + "b.valid_from"
            )
        );
    }

    [Fact]
    public async Task A_finished_crossing_is_loaded_again_only_as_a_whole()
    {
        await both.RunAsync(
            both.A,
            "CREATE TABLE t (id INTEGER PRIMARY KEY); CREATE TABLE u (id INTEGER PRIMARY KEY); INSERT INTO t VALUES (1); INSERT INTO "
                + "u VALUES (1)"
        );
        await both.Engine.DefineAsync(Definition() with { Start = new StartOptions(Kind: StartKind.Rows) }, "test", cancellation);
        await both.Engine.RunAsync(Name, "test", cancellation);
        await both.WaitAsync(() => both.Engine.Status(Name)!.State == CrossingState.Finished, "the end");
        await Assert.ThrowsAsync<RequestRefusedException>(() => both.Engine.PauseAsync(Name, "test", cancellation));
        await Assert.ThrowsAsync<RequestRefusedException>(() => both.Engine.ReloadAsync(Name, [new("a", "t")], "test", cancellation));
        await both.RunAsync(both.A, "INSERT INTO t VALUES (2); DELETE FROM u");
        await both.Engine.ReloadAsync(Name, [], "test", cancellation);
        await both.WaitAsync(
            () => both.Rows("b.db", "SELECT (SELECT count(*) FROM t) || ' ' || (SELECT count(*) FROM u)")[0] == "2 0",
            "the second load"
        );
        await both.WaitAsync(() => both.Engine.Status(Name)!.State == CrossingState.Finished, "the second end");
    }

    private static CrossingDefinition Definition() =>
        new(Name, CrossingDefinition.Copy, "a", "b", new TableRules([new TableRule(Take: "a.*")]));

    private async Task StartAsync(params TreatmentStep[] steps)
    {
        await both.Engine.DefineAsync(Definition() with { Treatment = steps }, "test", cancellation);
        await both.Engine.RunAsync(Name, "test", cancellation);
        await both.WaitAsync(() => both.Engine.Status(Name)!.State == CrossingState.Following, "following");
    }

    private async Task AgreeAsync()
    {
        foreach (
            var (table, condition) in new[]
            {
                ("book", "kind = 'book'"),
                ("picture", "kind IN ('film', 'map')"),
                ("rest", "kind IS NULL OR kind NOT IN ('book', 'film', 'map')"),
            }
        )
        {
            var wanted = both.Rows(
                "a.db",
                "SELECT coalesce(group_concat(row, '|'), '') FROM (SELECT id || ' ' || quote(kind) || ' ' || days || ' ' || (days / "
                    + $"7) AS row FROM loan WHERE days < 50 AND ({condition}) ORDER BY id)"
            )[0];
            Assert.True(wanted.Length > 100, wanted.Length.ToString(CultureInfo.InvariantCulture));
            await both.WaitAsync(
                () =>
                    both.Rows(
                        "b.db",
                        "SELECT coalesce(group_concat(row, '|'), '') FROM (SELECT id || ' ' || quote(kind) || ' ' || days || ' ' || "
                            + $"weeks AS row FROM {table} ORDER BY id)"
                    )[0] == wanted,
                table
            );
        }
    }
}
