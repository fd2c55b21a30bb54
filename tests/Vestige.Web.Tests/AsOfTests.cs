using System.Net;
using System.Text.Json;
using Xunit;

namespace Vestige.Web.Tests;

/// <summary>Copies of tables as they were, over HTTP: what is answered, and that what is refused leaves nothing.</summary>
public sealed class AsOfTests(EmptyVestige empty) : IClassFixture<EmptyVestige>, IAsyncLifetime
{
    private RunningVestige vestige = null!;

    public async ValueTask InitializeAsync()
    {
        vestige = await empty.ClearedAsync();
        foreach (var name in new[] { "a", "b", "old" })
        {
            await vestige.PostAsync("/api/v1/connections", new { name, kind = "stand-in" });
        }

        await vestige.BenchAsync(
            "a",
            "CREATE TABLE one (id INTEGER PRIMARY KEY, u TEXT UNIQUE, v TEXT); INSERT INTO one VALUES (1, 'p', 'x'), (2, 'q', 'y'), "
                + "(3, 'r', 'z')"
        );
        await vestige.PostAsync(
            "/api/v1/crossings",
            new
            {
                name = "c",
                purpose = "copy",
                source = "a",
                target = "b",
                tables = new { rules = new[] { new { take = "a.one" } } },
                treatment = new[] { new { tables = "a.one", mask = new[] { new { column = "v", by = "fixed", value = "***" } } } },
            }
        );
        await vestige.PostAsync("/api/v1/crossings/c/start");
        await vestige.WaitAsync("c", status => State(status) == "following", "following");
    }

    public ValueTask DisposeAsync() => ValueTask.CompletedTask;

    [Fact]
    public async Task A_table_is_copied_as_it_was_and_treated_as_its_crossing_treats_it()
    {
        await vestige.BenchAsync(
            "a",
            "UPDATE one SET u = u || '!' WHERE id < 3; DELETE FROM one WHERE id = 3; INSERT INTO one VALUES (4, 'r', 'new')"
        );
        await vestige.WaitAsync("c", status => Lag(status) == 0 && Applied(status) > 3, "applied");
        var then = (await vestige.StatusAsync("c")).GetProperty("positions").GetProperty("applied").GetString()!;
        await vestige.BenchAsync(
            "a",
            "DELETE FROM one WHERE id = 1; UPDATE one SET id = 9, u = 'q' WHERE id = 2; UPDATE one SET u = 'p!' WHERE id = 4"
        );
        await vestige.WaitAsync("c", status => Lag(status) == 0 && Applied(status) > 6, "applied");
        var (code, answer) = await vestige.PostAsync(
            "/api/v1/crossings/c/as-of",
            new
            {
                tables = new[] { "a.one" },
                target = "old",
                position = then,
                name = "before",
            }
        );
        Assert.True(code == HttpStatusCode.OK, answer.ToString());
        await vestige.WaitAsync("before", status => State(status) == "finished", "finished");
        Assert.Equal("""[["1","p!","***"],["2","q!","***"],["4","r","***"]]""", await RowsAsync("old"));
        Assert.Equal("""[["4","p!","***"],["9","q","***"]]""", await RowsAsync("b"));
        Assert.Contains(
            "3 changes taken back, 2 rows removed, 3 rows restored",
            (await vestige.GetAsync("/api/v1/crossings/before/events")).GetRawText(),
            StringComparison.Ordinal
        );
        Assert.Equal("following", State(await vestige.StatusAsync("c")));
    }

    [Fact]
    public async Task What_cannot_be_copied_is_refused_and_leaves_nothing()
    {
        string[] one = ["a.one"];
        var asked = new (object Body, HttpStatusCode Code)[]
        {
            (new { target = "old", position = "1" }, HttpStatusCode.UnprocessableEntity),
            (new { tables = one, target = "none", position = "1" }, HttpStatusCode.UnprocessableEntity),
            (new { tables = one, target = "old" }, HttpStatusCode.UnprocessableEntity),
            (new { tables = one, target = "old", position = "1", time = "2026-11-25T13:00:00Z" }, HttpStatusCode.UnprocessableEntity),
            (new { tables = one, target = "old", position = "far" }, HttpStatusCode.Conflict),
            (new { tables = one, target = "old", time = "2001-01-01T00:00:00Z" }, HttpStatusCode.Conflict),
            (new { tables = one, target = "old", time = "2101-01-01T00:00:00Z" }, HttpStatusCode.Conflict),
            (new { tables = one, target = "b", position = "999999999" }, HttpStatusCode.Conflict),
            (new { tables = new[] { "a.two" }, target = "old", position = "1" }, HttpStatusCode.Conflict),
        };
        foreach (var (body, expected) in asked)
        {
            var (code, problem) = await vestige.PostAsync("/api/v1/crossings/c/as-of", body);
            Assert.True(code == expected, $"{JsonSerializer.Serialize(body)}: {code} {problem}");
        }

        Assert.Equal(1, (await vestige.GetAsync("/api/v1/crossings")).GetArrayLength());
    }

    private async Task<string> RowsAsync(string connection) =>
        (await vestige.BenchAsync(connection, "SELECT * FROM one ORDER BY id")).Body.GetProperty("rows").GetRawText();

    private static string State(JsonElement status) => status.GetProperty("state").GetString()!;

    private static double Lag(JsonElement status) => status.GetProperty("lag").GetProperty("seconds").GetDouble();

    private static int Applied(JsonElement status) =>
        status.GetProperty("tables")[0].GetProperty("changes") is var changes
            ? changes.GetProperty("insert").GetInt32() + changes.GetProperty("update").GetInt32() + changes.GetProperty("delete").GetInt32()
            : 0;
}
