using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;
using Vestige.Core.Treatments;
using Vestige.Engine.Faults;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>
/// Tables of which every version stays. The source keeps its own history by a trigger that knows nothing of the log; both are
/// compared by the servers, and the present versions with the source's rows.
/// </summary>
public sealed class VersionTests(TwoServers servers)
{
    private const string Watched = """
        CREATE TABLE loan (id int PRIMARY KEY, kind text, days int, note text);
        CREATE TABLE seen (n bigserial, tx xid8, id int, kind text, days int);
        CREATE FUNCTION see() RETURNS trigger LANGUAGE plpgsql AS $$
          BEGIN INSERT INTO seen (tx, id, kind, days) SELECT pg_current_xact_id(), id, kind, days
              FROM (SELECT (NEW).*) x; RETURN NULL; END $$;
        CREATE FUNCTION unsee() RETURNS trigger LANGUAGE plpgsql AS $$
          BEGIN DELETE FROM seen WHERE tx = pg_current_xact_id() AND id = OLD.id; RETURN NULL; END $$;
        INSERT INTO loan SELECT i, 'book', i, repeat('n', 3000) FROM generate_series(1, 500) i;
        """;

    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    [Fact]
    public async Task Every_state_after_a_transaction_stays_with_its_times()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(Watched + "ALTER TABLE loan REPLICA IDENTITY FULL; CREATE INDEX loan_kind ON loan (kind)");
        await using var crossing = await Crossing.StartAsync(a, b, Definition());
        await crossing.FollowsAsync();

        // From here on the trigger writes down what each transaction leaves of a row; an earlier state of the same transaction goes.
        await a.RunAsync(
            "CREATE TRIGGER a_unsee AFTER UPDATE OR DELETE ON loan FOR EACH ROW EXECUTE FUNCTION unsee(); CREATE TRIGGER b_see AFTER "
                + "INSERT OR UPDATE ON loan FOR EACH ROW EXECUTE FUNCTION see()"
        );
        await a.RunAsync("UPDATE loan SET kind = 'film' WHERE id % 3 = 0");
        await a.RunAsync(
            "BEGIN; UPDATE loan SET days = days + 1 WHERE id % 5 = 0; UPDATE loan SET days = days + 1 WHERE id % 10 = 0; INSERT INTO "
                + "loan VALUES (900, 'map', 1); UPDATE loan SET days = 2 WHERE id = 900; INSERT INTO loan VALUES (901, 'map', 1); "
                + "DELETE FROM loan WHERE id = 901; COMMIT"
        );
        await a.RunAsync("DELETE FROM loan WHERE id % 7 = 0; UPDATE loan SET id = id + 10000 WHERE id % 11 = 0");
        await a.RunAsync("BEGIN; DELETE FROM loan WHERE id = 1; INSERT INTO loan VALUES (1, 'again', 5); COMMIT");
        await crossing.EndAsync();
        await a.RunAsync("UPDATE loan SET kind = 'last' WHERE id < 50");
        await crossing.BeginAsync();
        await AgreeAsync(crossing, a, b);

        // A column that does not cross makes no version.
        var versions = await b.AskAsync("SELECT count(*) FROM loan");
        await a.RunAsync("UPDATE loan SET note = 'unseen'; INSERT INTO loan VALUES (990, 'end', 1)");
        await crossing.UntilAsync(
            () => b.AskAsync("SELECT count(*) FROM loan WHERE id = 990").GetAwaiter().GetResult() == "1",
            "the last row"
        );
        Assert.Equal(int.Parse(versions) + 1, int.Parse(await b.AskAsync("SELECT count(*) FROM loan")));
        Assert.Equal(
            "0",
            await b.AskAsync(
                "SELECT count(*) FROM (SELECT valid_to, lead(valid_from) OVER (PARTITION BY id ORDER BY valid_to) AS next FROM loan) "
                    + "x WHERE next < valid_to"
            )
        );
        Assert.Equal("0", await b.AskAsync("SELECT count(*) FROM loan WHERE valid_from >= valid_to"));
        Assert.All(crossing.Status.Tables, table => Assert.Equal(0, table.Tally.Unexpected.Total));
        await a.RunAsync("TRUNCATE loan");
        await crossing.UntilAsync(() => crossing.Status.Tables.Any(table => table.Cause is not null), "the held table");
        Assert.Equal(int.Parse(versions) + 1, int.Parse(await b.AskAsync("SELECT count(*) FROM loan")));
    }

    /// <summary>Without the row before in the log, every update is a version, whatever it changed.</summary>
    [Fact]
    public async Task Tables_without_long_values_need_no_whole_rows()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(
            "CREATE TABLE loan (id int PRIMARY KEY, days int, lent date); INSERT INTO loan VALUES (1, 1, '2026-01-01'), (2, 2, NULL)"
        );
        await using var crossing = await Crossing.StartAsync(a, b, Definition() with { Treatment = null });
        await crossing.FollowsAsync();
        await a.RunAsync("UPDATE loan SET days = 9 WHERE id = 1");
        await a.RunAsync("BEGIN; UPDATE loan SET days = 10 WHERE id = 1; UPDATE loan SET days = 10 WHERE id = 1; COMMIT");
        await a.RunAsync("UPDATE loan SET id = 3 WHERE id = 2");
        await a.RunAsync("DELETE FROM loan WHERE id = 3");
        await crossing.UntilAsync(
            () => b.AskAsync("SELECT count(*) FROM loan WHERE valid_to < 'infinity'").GetAwaiter().GetResult() == "4",
            "four past versions"
        );
        Assert.Equal(
            "1 1, 1 9, 1 10 now, 2 2, 3 2",
            await b.AskAsync(
                "SELECT string_agg(id || ' ' || days || CASE WHEN valid_to = 'infinity' THEN ' now' ELSE '' END, ', ' ORDER BY id, "
                    + "valid_to) FROM loan"
            )
        );
    }

    [Fact]
    public async Task What_versions_need_is_told_before_the_start()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(
            "CREATE TABLE loan (id int PRIMARY KEY, note text UNIQUE); CREATE TABLE log (v text); ALTER TABLE log REPLICA IDENTITY FULL"
        );
        await using var crossing = await Crossing.DefineAsync(a, b, Definition() with { Treatment = null });
        var refused = await Assert.ThrowsAsync<NotReadyException>(() => crossing.Engine.RunAsync(Crossing.Name, "test", cancellation));
        Assert.Equal(
            ["apply[0].as", "whole rows of public.loan"],
            refused.Checks.Where(line => !line.Ok).Select(line => line.Step).Order()
        );
        Assert.Contains(
            "loan_note_key of public.loan: every version of a row is in public.loan",
            (await crossing.Engine.PlanAsync(Definition() with { Treatment = null }, cancellation)).NotMade
        );
    }

    private static CrossingDefinition Definition() =>
        new(
            Crossing.Name,
            CrossingDefinition.Copy,
            "a",
            "b",
            new TableRules([new TableRule(Take: "public.lo*")]),
            Apply: [new ApplyRule("*", ApplyMode.KeepVersions)],
            Treatment: [new TreatmentStep("*.loan", LeaveOut: ["note"])]
        );

    /// <summary>The present versions are the source's rows, and those since the load are what the trigger saw, in its order.</summary>
    private static async Task AgreeAsync(Crossing crossing, Database a, Database b)
    {
        await crossing.UntilAsync(
            () =>
                a.DigestAsync("(SELECT id, kind, days FROM loan)").GetAwaiter().GetResult()
                == b.DigestAsync("(SELECT id, kind, days FROM loan WHERE valid_to = 'infinity')").GetAwaiter().GetResult(),
            "the present versions"
        );
        const string Seen =
            "SELECT string_agg(id || ' ' || kind || ' ' || days, E'\\n' ORDER BY id, n) FROM (SELECT *, row_number() OVER (PARTITION "
            + "BY id ORDER BY n) FROM seen) x";
        const string Kept =
            "SELECT string_agg(id || ' ' || kind || ' ' || days, E'\\n' ORDER BY id, valid_to) FROM loan WHERE valid_from IS NOT NULL";
        Assert.Equal(await a.AskAsync(Seen), await b.AskAsync(Kept));
        Assert.Equal("500", await b.AskAsync("SELECT count(*) FROM loan WHERE valid_from IS NULL"));
    }
}
