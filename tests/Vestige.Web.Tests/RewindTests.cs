using System.Net;
using System.Text.Json;
using Xunit;

namespace Vestige.Web.Tests;

/// <summary>Changes that are applied again, over HTTP: what is answered, what comes of it, and what is refused.</summary>
public sealed class RewindTests(EmptyVestige empty) : IClassFixture<EmptyVestige>, IAsyncLifetime
{
    private RunningVestige vestige = null!;

    private static CancellationToken Cancellation => TestContext.Current.CancellationToken;

    public async ValueTask InitializeAsync()
    {
        vestige = await empty.ClearedAsync();
        foreach (var name in new[] { "a", "b" })
        {
            await vestige.PostAsync("/api/v1/connections", new { name, kind = "stand-in" });
        }

        await vestige.BenchAsync(
            "a",
            "CREATE TABLE one (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO one VALUES (1, 'x'), (2, 'y'), (3, 'z')"
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
                treatment = new[] { new { tables = "a.one", keep = "v <> 'hidden'" } },
            }
        );
        await vestige.PostAsync("/api/v1/crossings/c/start");
        await vestige.WaitAsync("c", status => status.GetProperty("state").GetString() == "following", "following");
    }

    public ValueTask DisposeAsync() => ValueTask.CompletedTask;

    [Fact]
    public async Task Rows_that_changed_since_then_are_as_the_source_again_and_no_others()
    {
        var since = await AppliedAsync();
        await vestige.BenchAsync(
            "a",
            "UPDATE one SET v = 'new' WHERE id = 2; UPDATE one SET v = 'hidden' WHERE id = 3; "
                + "INSERT INTO one VALUES (4, 'four'), (5, 'five'); DELETE FROM one WHERE id = 5"
        );
        await vestige.WaitAsync("c", status => Applied(status) >= 5, "applied");
        await vestige.BenchAsync(
            "b",
            "DELETE FROM one WHERE id = 4; UPDATE one SET v = 'damaged'; INSERT INTO one VALUES (3, 'seen'), (5, 'five')"
        );
        var (code, answer) = await vestige.PostAsync("/api/v1/crossings/c/rewind", new { position = since, tables = new[] { "a.one" } });
        Assert.True(code == HttpStatusCode.OK, answer.ToString());
        Assert.Equal(5, answer.GetProperty("tables")[0].GetProperty("changes").GetInt32());
        var began = DateTime.UtcNow;
        while ((await vestige.GetAsync("/api/v1/crossings/c/rewind")).GetArrayLength() > 0)
        {
            Assert.True(DateTime.UtcNow - began < TimeSpan.FromMinutes(1), "the changes are not applied again");
            await Task.Delay(20, Cancellation);
        }

        Assert.Equal("""[["1","damaged"],["2","new"],["4","four"]]""", await RowsAsync());
        Assert.Contains(
            "a.one: 2 rows written, of which the target lacked 1; 2 extra rows removed.",
            (await vestige.GetAsync("/api/v1/crossings/c/events")).GetRawText(),
            StringComparison.Ordinal
        );
    }

    [Fact]
    public async Task What_cannot_be_applied_again_is_refused()
    {
        var asked = new (object Body, HttpStatusCode Code)[]
        {
            (new { }, HttpStatusCode.UnprocessableEntity),
            (new { position = "1", time = "2026-11-25T13:00:00Z" }, HttpStatusCode.UnprocessableEntity),
            (new { position = "far" }, HttpStatusCode.Conflict),
            (new { position = "999999999" }, HttpStatusCode.Conflict),
            (new { time = "2001-01-01T00:00:00Z" }, HttpStatusCode.Conflict),
            (new { position = "1", tables = new[] { "a.two" } }, HttpStatusCode.Conflict),
            (new { position = "1", tables = new[] { "" } }, HttpStatusCode.Conflict),
        };
        foreach (var (body, expected) in asked)
        {
            foreach (var path in new[] { "rewind", "rewind/plan" })
            {
                var (code, problem) = await vestige.PostAsync($"/api/v1/crossings/c/{path}", body);
                Assert.True(code == expected, $"{path} {JsonSerializer.Serialize(body)}: {code} {problem}");
            }
        }

        using var stopped = await vestige.Http.DeleteAsync(new Uri("/api/v1/crossings/c/rewind", UriKind.Relative), Cancellation);
        Assert.Equal(HttpStatusCode.Conflict, stopped.StatusCode);
        await vestige.PostAsync("/api/v1/crossings/c/pause");
        var (paused, _) = await vestige.PostAsync("/api/v1/crossings/c/rewind", new { position = "1" });
        Assert.Equal(HttpStatusCode.Conflict, paused);
    }

    private async Task<string> AppliedAsync() =>
        (await vestige.StatusAsync("c")).GetProperty("positions").GetProperty("applied").GetString()!;

    private async Task<string> RowsAsync() =>
        (await vestige.BenchAsync("b", "SELECT * FROM one ORDER BY id")).Body.GetProperty("rows").GetRawText();

    private static int Applied(JsonElement status) =>
        status.GetProperty("tables")[0].GetProperty("changes") is var changes
            ? changes.GetProperty("insert").GetInt32() + changes.GetProperty("update").GetInt32() + changes.GetProperty("delete").GetInt32()
            : 0;
}
