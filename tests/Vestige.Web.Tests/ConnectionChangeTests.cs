using System.Globalization;
using System.Net;
using System.Net.Http.Json;
using System.Text.Json;
using Vestige.Connectors.PostgreSql.Tests.Servers;
using Xunit;

namespace Vestige.Web.Tests;

/// <summary>A connection to a real server is changed while a crossing runs on it.</summary>
public sealed class ConnectionChangeTests
{
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    [Fact]
    public async Task A_running_crossing_goes_on_with_settings_that_were_tested_and_confirmed()
    {
        await using var server = await Cluster.StartAsync();
        var (a, b, other) = (await server.MakeDatabaseAsync(), await server.MakeDatabaseAsync(), await server.MakeDatabaseAsync());
        await a.RunAsync(
            "CREATE TABLE t (id int PRIMARY KEY, v text); INSERT INTO t VALUES (1, 'a'); CREATE ROLE second SUPERUSER LOGIN PASSWORD "
                + "'second made up'"
        );
        await using var vestige = await RunningVestige.HostAsync("--empty", "true");
        await vestige.PostAsync("/api/v1/connections", Body("a", a, Cluster.Dba, Cluster.Password));
        await vestige.PostAsync("/api/v1/connections", Body("b", b, Cluster.Dba, Cluster.Password));
        await vestige.PostAsync(
            "/api/v1/crossings",
            new
            {
                name = "c",
                purpose = "copy",
                source = "a",
                target = "b",
                tables = new { rules = new[] { new { take = "public.*" } } },
            }
        );
        await vestige.PostAsync("/api/v1/crossings/c/start");
        await FollowsAsync(vestige);

        Assert.Equal(
            (HttpStatusCode.Conflict, "in-use"),
            await PutAsync(vestige, "a", Body("a", a, "second", "second made up"), confirm: false)
        );
        Assert.Equal((HttpStatusCode.Conflict, "not-ready"), await PutAsync(vestige, "a", Body("a", a, "second", "wrong"), confirm: true));
        Assert.Equal(
            (HttpStatusCode.Conflict, "not-ready"),
            await PutAsync(vestige, "b", Body("b", other, Cluster.Dba, Cluster.Password), confirm: true)
        );
        Assert.Equal("following", (await vestige.StatusAsync("c")).GetProperty("state").GetString());
        Assert.Equal(
            Cluster.Dba,
            (await vestige.GetAsync("/api/v1/connections/a")).GetProperty("settings").GetProperty("user").GetString()
        );

        foreach (var (name, database) in new[] { ("a", a), ("b", b) })
        {
            Assert.Equal(
                (HttpStatusCode.OK, null),
                await PutAsync(vestige, name, Body(name, database, "second", "second made up"), confirm: true)
            );
            await a.RunAsync($"UPDATE t SET v = 'after {name}'");
            await UntilAsync(async () => await b.AskAsync("SELECT v FROM t") == $"after {name}");
        }

        await FollowsAsync(vestige);
        Assert.Equal(
            "0",
            await a.AskAsync($"SELECT count(*) FROM pg_stat_activity WHERE usename = '{Cluster.Dba}' AND application_name = 'vestige'")
        );
        Assert.DoesNotContain(
            "second made up",
            await vestige.Http.GetStringAsync("/connections/a", cancellation),
            StringComparison.Ordinal
        );
    }

    private static object Body(string name, Database database, string user, string password) =>
        new
        {
            name,
            kind = "postgresql",
            settings = new
            {
                host = "127.0.0.1",
                port = database.Cluster.Port.ToString(CultureInfo.InvariantCulture),
                database = database.Name,
                user,
                tls = "off",
            },
            secret = new { password },
        };

    private static Task FollowsAsync(RunningVestige vestige) =>
        vestige.WaitAsync("c", status => status.GetProperty("state").GetString() == "following", "following");

    private async Task<(HttpStatusCode Code, string? Type)> PutAsync(RunningVestige vestige, string name, object body, bool confirm)
    {
        using var answer = await vestige.Http.PutAsJsonAsync(
            $"/api/v1/connections/{name}{(confirm ? "?confirm=true" : "")}",
            body,
            cancellation
        );
        var said = await answer.Content.ReadFromJsonAsync<JsonElement>(cancellation);
        return (answer.StatusCode, said.TryGetProperty("type", out var type) ? type.GetString()!.Split('/', ':')[^1] : null);
    }

    private async Task UntilAsync(Func<Task<bool>> holds)
    {
        var until = DateTimeOffset.UtcNow.AddSeconds(180);
        while (!await holds())
        {
            Assert.True(DateTimeOffset.UtcNow < until, "waited in vain");
            await Task.Delay(100, cancellation);
        }
    }
}
