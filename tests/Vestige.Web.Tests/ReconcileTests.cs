using System.Net;
using System.Text;
using System.Text.Json;
using Xunit;

namespace Vestige.Web.Tests;

/// <summary>Comparing and repairing over HTTP, and what of it outlives the process.</summary>
public sealed class ReconcileTests
{
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    [Fact]
    public async Task What_was_found_proved_and_repaired_outlives_the_process_and_its_rows_lie_encrypted()
    {
        await using var vestige = await RunningVestige.StartAsync("--empty", "true");
        foreach (var name in new[] { "a", "b" })
        {
            await vestige.PostAsync("/api/v1/connections", new { name, kind = "stand-in" });
        }

        await vestige.BenchAsync(
            "a",
            "CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO t VALUES (1, 'one'), (2, 'two'), (3, 'three'); CREATE TABLE "
                + "u (id INTEGER PRIMARY KEY); INSERT INTO u VALUES (1)"
        );
        await vestige.PostAsync(
            "/api/v1/crossings",
            new
            {
                name = "c",
                purpose = "copy",
                source = "a",
                target = "b",
                tables = new { rules = new[] { new { take = "a.*" } } },
            }
        );
        await vestige.PostAsync("/api/v1/crossings/c/start");
        await vestige.WaitAsync("c", status => status.GetProperty("state").GetString() == "following", "following");
        await vestige.BenchAsync("b", "UPDATE t SET v = 'Damaged-by-hand' WHERE id = 2; INSERT INTO t VALUES (9, 'Extra-by-hand')");
        var first = await CompareAsync(vestige);
        var table = first.GetProperty("tables").EnumerateArray().Single(one => one.GetProperty("table").GetString() == "b.t");
        Assert.Equal(
            (0, 1, 1),
            (table.GetProperty("missing").GetInt32(), table.GetProperty("extra").GetInt32(), table.GetProperty("differing").GetInt32())
        );
        var id = first.GetProperty("id").GetString();
        var rows = await vestige.GetAsync($"/api/v1/crossings/c/reconciliations/{id}/rows?table=b.t");
        var differing = rows.GetProperty("rows").EnumerateArray().Single(row => row.GetProperty("kind").GetString() == "differing");
        Assert.Equal("Damaged-by-hand", differing.GetProperty("values")[1].GetProperty("found").GetString());
        var (refused, problem) = await vestige.PostAsync($"/api/v1/crossings/c/reconciliations/{id}/repair", new { delete = "yes" });
        Assert.Equal((HttpStatusCode.Conflict, true), (refused, problem.ToString().Contains("delete: c", StringComparison.Ordinal)));
        var (code, repair) = await vestige.PostAsync($"/api/v1/crossings/c/reconciliations/{id}/repair", new { table = "b.t" });
        Assert.Equal((HttpStatusCode.OK, 1), (code, repair.GetProperty("changed").GetInt32()));
        Assert.Equal(JsonValueKind.String, repair.GetProperty("comparedAgain").ValueKind);

        vestige.Kill();
        foreach (var file in Directory.GetFiles(vestige.Data, "vestige*", SearchOption.TopDirectoryOnly))
        {
            Assert.DoesNotContain(
                "Damaged-by-hand",
                Encoding.UTF8.GetString(await File.ReadAllBytesAsync(file, cancellation)),
                StringComparison.Ordinal
            );
        }

        await vestige.LaunchAsync();
        await vestige.WaitAsync("c", status => status.GetProperty("state").GetString() == "following", "following again");
        var status = await vestige.StatusAsync("c");
        var proved = status
            .GetProperty("tables")
            .EnumerateArray()
            .ToDictionary(one => one.GetProperty("source").GetString()!, one => one.GetProperty("provedEqual").ValueKind);
        Assert.Equal((JsonValueKind.Null, JsonValueKind.Object), (proved["a.t"], proved["a.u"]));
        Assert.Equal(rows.ToString(), (await vestige.GetAsync($"/api/v1/crossings/c/reconciliations/{id}/rows?table=b.t")).ToString());
        var (_, undone) = await vestige.PostAsync($"/api/v1/crossings/c/repairs/{repair.GetProperty("id").GetString()}/undo");
        Assert.Equal(1, undone.GetProperty("changed").GetInt32());
        Assert.Contains("Damaged-by-hand", (await vestige.BenchAsync("b", "SELECT v FROM t")).Body.ToString(), StringComparison.Ordinal);
        Assert.Equal(2, (await vestige.GetAsync("/api/v1/crossings/c/repairs")).GetArrayLength());

        // Loaded again, nothing is proved any more.
        await vestige.PostAsync("/api/v1/crossings/c/reload", new { tables = Array.Empty<string>() });
        await vestige.WaitAsync(
            "c",
            one =>
                one.GetProperty("state").GetString() == "following"
                && one.GetProperty("tables").EnumerateArray().All(each => each.GetProperty("provedEqual").ValueKind == JsonValueKind.Null),
            "no proof"
        );
        Assert.True((await CompareAsync(vestige)).GetProperty("equal").GetBoolean());
        Assert.NotEqual(JsonValueKind.Null, (await vestige.StatusAsync("c")).GetProperty("positions").GetProperty("provedEqual").ValueKind);
    }

    [Fact]
    public async Task Bad_requests_are_told_and_compare_nothing()
    {
        await using var vestige = await RunningVestige.HostAsync("--demo-loans", "200", "--demo-states", "false");
        foreach (
            var (body, said) in new (object Body, string Said)[]
            {
                (new { tables = new[] { "nowhere" } }, "schema.table"),
                (new { tables = new[] { "circulation.loan" }, sample = 0 }, "sample of 0"),
                (new { from = "1" }, "of one table"),
                (new { tables = new[] { "other.loan" } }, "does not replicate other.loan"),
            }
        )
        {
            var (code, answer) = await vestige.PostAsync("/api/v1/crossings/circulation-to-warehouse/reconciliations", body);
            Assert.InRange((int)code, 400, 422);
            Assert.Contains(said, answer.ToString(), StringComparison.Ordinal);
        }

        Assert.Equal(HttpStatusCode.NotFound, (await vestige.PostAsync("/api/v1/crossings/nothing/reconciliations")).Code);
        Assert.Equal(HttpStatusCode.Conflict, (await vestige.PostAsync("/api/v1/crossings/fines-to-ledger/reconciliations")).Code);
        Assert.Equal(0, (await vestige.GetAsync("/api/v1/crossings/circulation-to-warehouse/reconciliations")).GetArrayLength());
    }

    private static async Task<JsonElement> CompareAsync(RunningVestige vestige)
    {
        var (code, answer) = await vestige.PostAsync("/api/v1/crossings/c/reconciliations");
        Assert.Equal(HttpStatusCode.Accepted, code);
        for (var until = DateTimeOffset.UtcNow.AddSeconds(180); ;)
        {
            var found = await vestige.GetAsync($"/api/v1/crossings/c/reconciliations/{answer.GetProperty("id").GetString()}");
            if (found.GetProperty("state").GetString() != "running")
            {
                return found;
            }

            Assert.True(DateTimeOffset.UtcNow < until, found.ToString());
            await Task.Delay(50);
        }
    }
}
