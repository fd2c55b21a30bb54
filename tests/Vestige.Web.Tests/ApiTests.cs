using System.Net;
using System.Net.Http.Json;
using System.Text;
using System.Text.Json;
using Xunit;

namespace Vestige.Web.Tests;

/// <summary>The HTTP interface of the running application, as a program would use it.</summary>
public sealed class ApiTests(EmptyVestige empty) : IClassFixture<EmptyVestige>, IAsyncLifetime
{
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;
    private RunningVestige vestige = null!;

    public async ValueTask InitializeAsync() => vestige = await empty.ClearedAsync();

    public ValueTask DisposeAsync() => ValueTask.CompletedTask;

    [Fact]
    public async Task Kinds_tell_their_settings_and_what_they_can()
    {
        var kinds = (await vestige.GetAsync("/api/v1/connection-kinds"))
            .EnumerateArray()
            .ToDictionary(kind => kind.GetProperty("kind").GetString()!);
        Assert.Contains("bench", kinds["stand-in"].GetProperty("can").EnumerateArray().Select(one => one.GetString()));
        Assert.Contains("preparation", kinds["postgresql"].GetProperty("can").EnumerateArray().Select(one => one.GetString()));
        var fields = kinds["postgresql"]
            .GetProperty("fields")
            .EnumerateArray()
            .ToDictionary(field => field.GetProperty("name").GetString()!);
        Assert.True(fields["host"].GetProperty("required").GetBoolean());
        Assert.Equal((1, 65535), (fields["port"].GetProperty("least").GetInt32(), fields["port"].GetProperty("most").GetInt32()));
        Assert.Equal("secret", fields["password"].GetProperty("type").GetString());
        var document = (await vestige.GetAsync("/openapi/v1.json"))
            .GetProperty("components")
            .GetProperty("schemas")
            .GetProperty("ConnectionBody")
            .GetProperty("properties");
        Assert.Equal(
            kinds.Keys.Order(),
            document.GetProperty("kind").GetProperty("enum").EnumerateArray().Select(one => one.GetString()!).Order()
        );
        Assert.Contains(
            "host (required)",
            document.GetProperty("settings").GetProperty("description").GetString(),
            StringComparison.Ordinal
        );
    }

    [Fact]
    public async Task A_setting_or_a_part_of_a_secret_that_a_kind_does_not_have_is_refused_by_name()
    {
        var (code, problem) = await vestige.PostAsync(
            "/api/v1/connections",
            new
            {
                name = "a",
                kind = "stand-in",
                settings = new { host = "x" },
                secret = new { password = "x" },
            }
        );
        Assert.Equal(HttpStatusCode.UnprocessableEntity, code);
        Assert.Equal(
            ["settings.host", "secret.password"],
            problem.GetProperty("problems").EnumerateArray().Select(one => one.GetProperty("field").GetString())
        );
        Assert.NotEmpty(problem.GetProperty("remedy").GetString()!);
    }

    [Fact]
    public async Task Drills_are_set_and_lifted_through_the_interface()
    {
        await MakeAsync("shop");
        await vestige.BenchAsync("shop", "CREATE TABLE item (id INTEGER PRIMARY KEY)");
        var (code, done) = await vestige.PostAsync("/api/v1/connections/shop/drills/line", new { values = new { on = true } });
        Assert.Equal((HttpStatusCode.OK, "The connection is cut (drill)."), (code, done.GetProperty("done").GetString()));
        Assert.False((await vestige.PostAsync("/api/v1/connections/shop/test")).Body[0].GetProperty("ok").GetBoolean());
        var line = (await vestige.GetAsync("/api/v1/connections/shop/drills"))
            .EnumerateArray()
            .Single(drill => drill.GetProperty("drill").GetString() == "line");
        Assert.True(line.GetProperty("on").GetBoolean());
        await vestige.PostAsync("/api/v1/connections/shop/drills/line", new { values = line.GetProperty("values") });
        Assert.True((await vestige.PostAsync("/api/v1/connections/shop/test")).Body[0].GetProperty("ok").GetBoolean());
        await vestige.PostAsync("/api/v1/connections/shop/drills/refuse", new { values = new { table = "item", key = 7 } });
        Assert.Contains((await vestige.GetAsync("/api/v1/connections/shop/drills")).EnumerateArray(), drill =>
            drill.GetProperty("drill").GetString() == "allow"
        );
        foreach (
            var (drill, values) in new (string, object)[]
            {
                ("none", new { }),
                ("line", new { }),
                ("delay", new { milliseconds = 10_001 }),
                ("refuse", new { table = "other", key = "1" }),
            }
        )
        {
            var (refused, problem) = await vestige.PostAsync($"/api/v1/connections/shop/drills/{drill}", new { values });
            Assert.Equal(HttpStatusCode.Conflict, refused);
            Assert.NotEmpty(problem.GetProperty("remedy").GetString()!);
        }
    }

    [Fact]
    public async Task A_crossing_from_nothing_to_following_and_back()
    {
        await MakeAsync("shop", "copy");
        await vestige.BenchAsync(
            "shop",
            "CREATE TABLE item (id INTEGER PRIMARY KEY, name TEXT); INSERT INTO item VALUES (1, 'one'), (2, 'two')"
        );
        var (created, _) = await vestige.PostAsync("/api/v1/crossings", Definition("items", "shop", "copy"));
        Assert.Equal(HttpStatusCode.Created, created);
        var (_, plan) = await vestige.PostAsync("/api/v1/crossings/items/plan");
        Assert.True(plan.GetProperty("ready").GetBoolean());
        Assert.Equal(2, plan.GetProperty("rows").GetInt32());
        Assert.Contains("CREATE TABLE \"item\"", plan.GetProperty("statements")[0].GetString(), StringComparison.Ordinal);
        await vestige.PostAsync("/api/v1/crossings/items/start");
        await vestige.WaitAsync("items", status => status.GetProperty("state").GetString() == "following", "following");
        await vestige.BenchAsync(
            "shop",
            "UPDATE item SET name = 'new' WHERE id = 1; DELETE FROM item WHERE id = 2; INSERT INTO item VALUES (3, 'three')"
        );
        await vestige.WaitAsync(
            "items",
            status => status.GetProperty("tables")[0].GetProperty("changes").GetProperty("insert").GetInt32() == 1,
            "the insert"
        );
        var (_, rows) = await vestige.BenchAsync("copy", "SELECT id, name FROM item ORDER BY id");
        Assert.Equal("""[["1","new"],["3","three"]]""", rows.GetProperty("rows").GetRawText());
        var status = await vestige.StatusAsync("items");
        Assert.True(status.GetProperty("lag").GetProperty("seconds").GetDouble() >= 0);
        await vestige.PostAsync("/api/v1/crossings/items/pause");
        Assert.Equal("paused", (await vestige.StatusAsync("items")).GetProperty("state").GetString());
        await vestige.PostAsync("/api/v1/crossings/items/resume");
        await vestige.WaitAsync("items", current => current.GetProperty("state").GetString() == "following", "following again");
        await vestige.PostAsync("/api/v1/crossings/items/stop", new { manner = "now" });
        Assert.Equal("stopped", (await vestige.StatusAsync("items")).GetProperty("state").GetString());
        Assert.Contains("Loaded", (await vestige.GetAsync("/api/v1/crossings/items/events")).GetRawText(), StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_start_that_cannot_be_made_says_every_line()
    {
        await MakeAsync("a", "b");
        await vestige.BenchAsync("a", "CREATE TABLE keyless (x TEXT); CREATE TABLE t (id INTEGER PRIMARY KEY)");
        await vestige.BenchAsync("b", "CREATE TABLE t (id INTEGER PRIMARY KEY); INSERT INTO t VALUES (1)");
        await vestige.PostAsync("/api/v1/crossings", Definition("c", "a", "b"));
        var (code, problem) = await vestige.PostAsync("/api/v1/crossings/c/start");
        Assert.Equal(HttpStatusCode.Conflict, code);
        Assert.EndsWith("not-ready", problem.GetProperty("type").GetString(), StringComparison.Ordinal);
        var bad = problem
            .GetProperty("lines")
            .EnumerateArray()
            .Where(line => !line.GetProperty("ok").GetBoolean())
            .Select(line => line.GetProperty("found").GetString())
            .ToList();
        Assert.Contains(bad, found => found!.Contains("no primary key", StringComparison.Ordinal));
        Assert.Contains(bad, found => found!.Contains("already has 1 row", StringComparison.Ordinal));
        Assert.Equal("draft", (await vestige.StatusAsync("c")).GetProperty("state").GetString());
    }

    [Fact]
    public async Task A_secret_is_written_and_never_read_back()
    {
        await using var own = vestige = await RunningVestige.StartAsync("--empty", "true");
        var (code, body) = await vestige.PostAsync(
            "/api/v1/connections",
            new
            {
                name = "a",
                kind = "postgresql",
                settings = new
                {
                    host = "127.0.0.1",
                    port = 1,
                    database = "d",
                    user = "u",
                },
                secret = new { password = "Zx7-hidden" },
            }
        );
        Assert.Equal(HttpStatusCode.Created, code);
        Assert.True(body.GetProperty("hasSecret").GetBoolean());
        Assert.DoesNotContain(
            "Zx7-hidden",
            await vestige.Http.GetStringAsync("/api/v1/connections", cancellation),
            StringComparison.Ordinal
        );
        vestige.Kill();
        foreach (var file in Directory.EnumerateFiles(vestige.Data, "*", SearchOption.AllDirectories))
        {
            Assert.DoesNotContain(
                "Zx7-hidden",
                Encoding.UTF8.GetString(await File.ReadAllBytesAsync(file, cancellation)),
                StringComparison.Ordinal
            );
        }
    }

    [Fact]
    public async Task Row_values_that_wait_in_the_spool_cannot_be_read_from_the_disk()
    {
        await using var own = vestige = await RunningVestige.StartAsync("--empty", "true");
        await MakeAsync("a", "b");
        await vestige.BenchAsync("a", "CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT)");
        await vestige.PostAsync("/api/v1/crossings", Definition("c", "a", "b"));
        await vestige.PostAsync("/api/v1/crossings/c/start");
        await vestige.WaitAsync("c", status => status.GetProperty("state").GetString() == "following", "following");
        await vestige.BenchAsync("a", "INSERT INTO t VALUES (1, 'Qy9-personal')");
        await vestige.WaitAsync(
            "c",
            status => status.GetProperty("tables")[0].GetProperty("changes").GetProperty("insert").GetInt32() == 1,
            "the insert"
        );
        vestige.Kill();
        var spool = Directory.EnumerateFiles(Path.Combine(vestige.Data, "spool"), "*", SearchOption.AllDirectories).ToList();
        Assert.NotEmpty(spool);
        foreach (var file in spool)
        {
            Assert.DoesNotContain(
                "Qy9-personal",
                Encoding.UTF8.GetString(await File.ReadAllBytesAsync(file, cancellation)),
                StringComparison.Ordinal
            );
        }
    }

    [Fact]
    public async Task Changing_and_removing_take_the_ETag()
    {
        await MakeAsync("a", "b");
        await vestige.PostAsync("/api/v1/crossings", Definition("c", "a", "b"));
        using var got = await vestige.Http.GetAsync("/api/v1/crossings/c", cancellation);
        var tag = got.Headers.ETag!.Tag;
        Assert.Equal(
            (HttpStatusCode)428,
            (await vestige.Http.PutAsJsonAsync("/api/v1/crossings/c", Definition("c", "b", "a"), cancellation)).StatusCode
        );
        Assert.Equal(HttpStatusCode.OK, await SendAsync(HttpMethod.Put, tag, Definition("c", "b", "a")));
        Assert.Equal(HttpStatusCode.PreconditionFailed, await SendAsync(HttpMethod.Put, tag, Definition("c", "a", "b")));
        Assert.Equal(HttpStatusCode.PreconditionFailed, await SendAsync(HttpMethod.Delete, tag, null));
        var kept = (await vestige.GetAsync("/api/v1/crossings/c/definitions")).EnumerateArray().ToList();
        Assert.Equal(
            [(2, "b", "api"), (1, "a", "api")],
            kept.Select(version =>
                (
                    version.GetProperty("version").GetInt32(),
                    version.GetProperty("definition").GetProperty("source").GetString(),
                    version.GetProperty("by").GetString()
                )
            )
        );
        using var again = await vestige.Http.GetAsync("/api/v1/crossings/c", cancellation);
        Assert.Equal(HttpStatusCode.NoContent, await SendAsync(HttpMethod.Delete, again.Headers.ETag!.Tag, null));
        Assert.Equal(HttpStatusCode.NotFound, (await vestige.Http.GetAsync("/api/v1/crossings/c/status", cancellation)).StatusCode);
    }

    [Fact]
    public async Task What_a_change_needs_is_told_before_it_is_taken_and_a_loss_needs_the_name()
    {
        await MakeAsync("a", "b");
        await vestige.BenchAsync(
            "a",
            "CREATE TABLE one (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO one VALUES (1, 'x'); CREATE TABLE two (id INTEGER PRIMARY "
                + "KEY); INSERT INTO two VALUES (1)"
        );
        await vestige.BenchAsync("b", "CREATE TABLE one (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO one VALUES (7, 'old')");
        await vestige.PostAsync("/api/v1/crossings", Taking("refuse", "a.one"));
        Assert.Equal(HttpStatusCode.Conflict, (await vestige.PostAsync("/api/v1/crossings/c/start")).Code);
        Assert.Equal(HttpStatusCode.OK, await SendAsync(HttpMethod.Put, "*", Taking("empty", "a.one")));
        var (code, loss) = await vestige.PostAsync("/api/v1/crossings/c/start");
        Assert.Equal(
            (HttpStatusCode.Conflict, "https://vestige.invalid/problems/confirm-loss", "1 row of b.one"),
            (code, loss.GetProperty("type").GetString(), loss.GetProperty("losses")[0].GetString())
        );
        Assert.Equal(HttpStatusCode.Conflict, (await vestige.PostAsync("/api/v1/crossings/c/start?confirm=true")).Code);
        Assert.Equal(HttpStatusCode.OK, (await vestige.PostAsync("/api/v1/crossings/c/start?confirm=c")).Code);
        await vestige.WaitAsync("c", status => status.GetProperty("state").GetString() == "following", "following");

        using var put = new HttpRequestMessage(HttpMethod.Put, "/api/v1/crossings/c")
        {
            Content = JsonContent.Create(Taking("refuse", "a.one", "a.two")),
        };
        put.Headers.TryAddWithoutValidation("If-Match", "*");
        using var told = await vestige.Http.SendAsync(put, cancellation);
        var needs = await told.Content.ReadFromJsonAsync<JsonElement>(cancellation);
        Assert.Equal((HttpStatusCode.Conflict, "a.two"), (told.StatusCode, needs.GetProperty("added")[0].GetString()));
        Assert.Equal(0, needs.GetProperty("reloaded").GetArrayLength());
        Assert.Equal(1, (await vestige.StatusAsync("c")).GetProperty("tables").GetArrayLength());
        Assert.Equal(HttpStatusCode.OK, await SendAsync(HttpMethod.Put, "*", Taking("refuse", "a.one", "a.two"), "?confirm=true"));
        await vestige.WaitAsync(
            "c",
            status => status.GetProperty("tables").GetArrayLength() == 2 && status.GetProperty("state").GetString() == "following",
            "both tables"
        );
        Assert.Contains(
            "CREATE TABLE \"two\"",
            await vestige.Http.GetStringAsync("/crossings/c/statements.sql", cancellation),
            StringComparison.Ordinal
        );
    }

    [Fact]
    public async Task A_schedule_and_a_limit_given_with_the_definition_are_in_force_at_once()
    {
        await MakeAsync("a", "b");
        await vestige.BenchAsync("a", "CREATE TABLE one (id INTEGER PRIMARY KEY)");
        await vestige.PostAsync("/api/v1/crossings", Paced(null, null));
        await vestige.PostAsync("/api/v1/crossings/c/start");
        await vestige.WaitAsync("c", status => status.GetProperty("state").GetString() == "following", "following");
        Assert.Equal(HttpStatusCode.OK, await SendAsync(HttpMethod.Put, "*", Paced(new { everySeconds = 2 }, null), "?confirm=true"));
        await vestige.WaitAsync("c", status => status.GetProperty("state").GetString() == "stopped", "the rest between two runs");
        await vestige.BenchAsync("a", "INSERT INTO one VALUES (1)");
        await vestige.WaitAsync("c", status => Inserted(status) == 1, "the next run");

        Assert.Equal(HttpStatusCode.OK, await SendAsync(HttpMethod.Put, "*", Paced(null, 2), "?confirm=true"));
        await vestige.WaitAsync("c", status => status.GetProperty("state").GetString() == "following", "following without a schedule");
        for (var id = 2; id <= 13; id++)
        {
            await vestige.BenchAsync("a", $"INSERT INTO one VALUES ({id})");
        }

        await Task.Delay(1000, cancellation);
        Assert.InRange(Inserted(await vestige.StatusAsync("c")), 1, 12);
        await vestige.WaitAsync("c", status => Inserted(status) == 13, "what the limit held");
    }

    private static int Inserted(JsonElement status) =>
        status.GetProperty("tables")[0].GetProperty("changes").GetProperty("insert").GetInt32();

    private static object Paced(object? schedule, double? changesPerSecond) =>
        new
        {
            name = "c",
            purpose = "copy",
            source = "a",
            target = "b",
            tables = new { rules = new[] { new { take = "a.one" } } },
            schedule,
            changesPerSecond,
        };

    private static object Taking(string existing, params string[] tables) =>
        new
        {
            name = "c",
            purpose = "copy",
            source = "a",
            target = "b",
            tables = new { rules = tables.Select(take => new { take }) },
            start = new { existing },
        };

    [Fact]
    public async Task A_definition_goes_in_and_out_as_YAML_and_is_refused_with_its_place()
    {
        await MakeAsync("a", "b");
        const string Text = "name: y\npurpose: copy\nsource: a\ntarget: b\ntables:\n  rules:\n    - take: a.*\n";
        foreach (
            var (wrong, line, column) in new[]
            {
                (Text.Replace("source: a", "source: nobody", StringComparison.Ordinal), 3, 1),
                (Text.Replace("take:", "fetch:", StringComparison.Ordinal), 7, 7),
                (Text + "x", 8, 1),
            }
        )
        {
            using var refused = await SendYamlAsync(wrong);
            Assert.Equal(HttpStatusCode.UnprocessableEntity, refused.StatusCode);
            var problem = await refused.Content.ReadFromJsonAsync<System.Text.Json.JsonElement>(cancellation);
            Assert.Equal((line, column), (problem.GetProperty("line").GetInt32(), problem.GetProperty("column").GetInt32()));
        }

        using var made = await SendYamlAsync(Text);
        Assert.Equal(HttpStatusCode.Created, made.StatusCode);
        using var asked = new HttpRequestMessage(HttpMethod.Get, "/api/v1/crossings/y");
        asked.Headers.Add("Accept", "application/yaml");
        using var got = await vestige.Http.SendAsync(asked, cancellation);
        Assert.Equal("application/yaml", got.Content.Headers.ContentType!.MediaType);
        Assert.Contains("- take: a.*", await got.Content.ReadAsStringAsync(cancellation), StringComparison.Ordinal);
        using var words = new StringContent(Text, Encoding.UTF8, "text/plain");
        Assert.Equal(
            HttpStatusCode.UnsupportedMediaType,
            (await vestige.Http.PostAsync("/api/v1/crossings", words, cancellation)).StatusCode
        );
    }

    private Task<HttpResponseMessage> SendYamlAsync(string text) =>
        vestige.Http.PostAsync("/api/v1/crossings", new StringContent(text, Encoding.UTF8, "application/yaml"), cancellation);

    [Fact]
    public async Task The_document_of_the_interface_names_every_path_it_promises()
    {
        var paths = (await vestige.GetAsync("/openapi/v1.json")).GetProperty("paths").EnumerateObject().Select(path => path.Name).ToList();
        foreach (
            var promised in new[]
            {
                "/api/v1/connections",
                "/api/v1/connections/{name}",
                "/api/v1/connections/{name}/test",
                "/api/v1/connections/{name}/readiness",
                "/api/v1/connections/{name}/tables",
                "/api/v1/crossings",
                "/api/v1/crossings/{name}",
                "/api/v1/crossings/{name}/definitions",
                "/api/v1/crossings/{name}/plan",
                "/api/v1/crossings/{name}/check",
                "/api/v1/crossings/{name}/start",
                "/api/v1/crossings/{name}/pause",
                "/api/v1/crossings/{name}/resume",
                "/api/v1/crossings/{name}/stop",
                "/api/v1/crossings/{name}/reload",
                "/api/v1/crossings/{name}/status",
                "/api/v1/crossings/{name}/events",
                "/api/v1/bench/{connection}",
            }
        )
        {
            Assert.Contains(promised, paths.Select(path => path.TrimEnd('/')));
        }

        Assert.Equal("alive", await vestige.Http.GetStringAsync("/healthz", cancellation));
    }

    [Fact]
    public async Task A_page_of_another_site_cannot_use_the_interface_and_a_form_needs_its_token()
    {
        await MakeAsync("a", "b");
        using var call = new HttpRequestMessage(HttpMethod.Post, "/api/v1/bench/a")
        {
            Content = JsonContent.Create(new { statement = "CREATE TABLE t (id INTEGER PRIMARY KEY)" }),
        };
        call.Headers.Add("Sec-Fetch-Site", "cross-site");
        Assert.Equal(HttpStatusCode.Forbidden, (await vestige.Http.SendAsync(call, cancellation)).StatusCode);
        using var form = new FormUrlEncodedContent([new("statement", "CREATE TABLE t (id INTEGER PRIMARY KEY)")]);
        Assert.Equal(HttpStatusCode.BadRequest, (await vestige.Http.PostAsync("/bench/a", form, cancellation)).StatusCode);
        using var other = new HttpRequestMessage(HttpMethod.Get, "/healthz");
        other.Headers.Host = "evil.example";
        Assert.Equal(HttpStatusCode.BadRequest, (await vestige.Http.SendAsync(other, cancellation)).StatusCode);
    }

    [Fact]
    public async Task The_log_is_kept_for_a_draft_that_then_begins_in_the_past()
    {
        await MakeAsync("shop", "copy");
        await vestige.BenchAsync(
            "shop",
            "CREATE TABLE item (id INTEGER PRIMARY KEY, name TEXT); INSERT INTO item VALUES (1, 'one'), (2, 'two')"
        );
        object Draft(object? from) =>
            new
            {
                name = "late",
                purpose = "copy",
                source = "shop",
                target = "copy",
                tables = new { rules = new[] { new { take = "shop.item" } } },
                start = new { kind = "changes", from },
            };
        await vestige.PostAsync("/api/v1/crossings", Draft(null));
        var (code, kept) = await vestige.PostAsync("/api/v1/crossings/late/keep-log");
        Assert.Equal(HttpStatusCode.OK, code);
        Assert.Equal("draft", (await vestige.StatusAsync("late")).GetProperty("state").GetString());
        await vestige.BenchAsync(
            "copy",
            "CREATE TABLE item (id INTEGER PRIMARY KEY, name TEXT); INSERT INTO item VALUES (1, 'one'), (2, 'two')"
        );
        await vestige.BenchAsync("shop", "INSERT INTO item VALUES (3, 'three'); DELETE FROM item WHERE id = 1");
        using (
            var put = new HttpRequestMessage(HttpMethod.Put, "/api/v1/crossings/late")
            {
                Content = JsonContent.Create(Draft(new { position = kept.GetProperty("after").GetString() })),
            }
        )
        {
            put.Headers.TryAddWithoutValidation(
                "If-Match",
                (await vestige.Http.GetAsync("/api/v1/crossings/late", cancellation)).Headers.ETag!.ToString()
            );
            Assert.Equal(HttpStatusCode.OK, (await vestige.Http.SendAsync(put, cancellation)).StatusCode);
        }

        var (started, answer) = await vestige.PostAsync("/api/v1/crossings/late/start");
        Assert.True(started == HttpStatusCode.OK, answer.ToString());
        await vestige.WaitAsync(
            "late",
            status =>
                status.GetProperty("state").GetString() == "following" && status.GetProperty("lag").GetProperty("current").GetBoolean(),
            "following"
        );
        var (_, rows) = await vestige.BenchAsync("copy", "SELECT id, name FROM item ORDER BY id");
        Assert.Equal("""[["2","two"],["3","three"]]""", rows.GetProperty("rows").GetRawText());
        Assert.Equal(HttpStatusCode.Conflict, (await vestige.PostAsync("/api/v1/crossings/late/keep-log")).Code);
    }

    private static object Definition(string name, string source, string target) =>
        new
        {
            name,
            purpose = "copy",
            source,
            target,
            tables = new { rules = new[] { new { take = $"{source}.*" } } },
        };

    private async Task MakeAsync(params string[] names)
    {
        foreach (var name in names)
        {
            var (code, body) = await vestige.PostAsync("/api/v1/connections", new { name, kind = "stand-in" });
            Assert.True(code == HttpStatusCode.Created, body.ToString());
        }
    }

    private async Task<HttpStatusCode> SendAsync(HttpMethod method, string tag, object? body, string query = "")
    {
        using var request = new HttpRequestMessage(method, $"/api/v1/crossings/c{query}")
        {
            Content = body is null ? null : JsonContent.Create(body),
        };
        request.Headers.TryAddWithoutValidation("If-Match", tag);
        return (await vestige.Http.SendAsync(request, cancellation)).StatusCode;
    }
}
