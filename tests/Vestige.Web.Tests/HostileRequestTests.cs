using System.Net;
using System.Net.Http.Headers;
using System.Net.Http.Json;
using System.Text;
using System.Text.Json;
using Xunit;

namespace Vestige.Web.Tests;

/// <summary>What a client sends, however odd, is answered with a problem that names it; the process lives and nothing is changed.</summary>
public sealed class HostileRequestTests(EmptyVestige empty) : IClassFixture<EmptyVestige>
{
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    private HttpClient Http => empty.Process.Http;

    public static TheoryData<string, string> Yaml { get; } =
        new()
        {
            { "brackets", new string('[', 40_000) },
            { "braces", string.Concat(Enumerable.Repeat("{a: ", 20_000)) },
            { "brackets on lines", string.Concat(Enumerable.Repeat("[\n", 50_000)) },
            { "deep blocks", string.Concat(Enumerable.Range(0, 400).Select(i => new string(' ', i) + "a:\n")) },
            { "dashes", string.Concat(Enumerable.Repeat("- ", 50_000)) },
            { "keys in keys", string.Concat(Enumerable.Repeat("? ", 50_000)) },
            { "many nodes", "a: [" + string.Join(',', Enumerable.Repeat("1", 200_000)) + "]" },
            { "aliases", "a: &a [x]\nb: [*a, *a]\n" },
            { "quotes", "a: \"" + new string('\\', 99_999) },
            { "tags", string.Concat(Enumerable.Repeat("!!str ", 30_000)) },
            { "too long", "name: x\n# " + new string('x', 1 << 20) },
        };

    [Theory]
    [MemberData(nameof(Yaml))]
    public async Task A_definition_that_is_too_much_is_refused_in_a_moment(string what, string yaml)
    {
        using var body = new StringContent(yaml, Encoding.UTF8, "application/yaml");
        var began = TimeProvider.System.GetTimestamp();
        using var response = await Http.PostAsync("/api/v1/crossings", body, cancellation);
        await RefusedAsync(response, what);
        Assert.True(TimeProvider.System.GetElapsedTime(began) < TimeSpan.FromSeconds(20), what);
        Assert.Equal("alive", await Http.GetStringAsync("/healthz", cancellation));
    }

    [Theory]
    [InlineData("POST", "/api/v1/crossings", "[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[", 400)]
    [InlineData("POST", "/api/v1/connections", """{"name":"x\n","kind":"stand-in"}""", 422)]
    [InlineData("POST", "/api/v1/connections", """{"name":"x","kind":"stand-in","settings":{"a":null}}""", 400)]
    [InlineData("POST", "/api/v1/connections", """{"name":null,"kind":"stand-in"}""", 400)]
    [InlineData("POST", "/api/v1/crossings/steer", """{"action":"pause","names":[null]}""", 422)]
    [InlineData("POST", "/api/v1/crossings/none/reload", """{"tables":["nodot"]}""", 404)]
    [InlineData("GET", "/events/export?kind=nothing", null, 422)]
    [InlineData("GET", "/events/export?before=many", null, 400)]
    [InlineData("GET", "/api/v1/nothing/here", null, 404)]
    [InlineData("DELETE", "/api/v1/crossings", null, 405)]
    [InlineData("PATCH", "/api/v1/connections/x", "{}", 405)]
    [InlineData("GET", "/api/v1/connections/none/tables?limit=many", null, 400)]
    [InlineData("GET", "/api/v1/connections/none/readiness", null, 400)]
    [InlineData("GET", "/api/v1/trace", null, 400)]
    public async Task What_cannot_be_read_is_named_in_a_problem_document(string method, string path, string? body, int status)
    {
        using var request = new HttpRequestMessage(new HttpMethod(method), path);
        request.Content = body is null ? null : new StringContent(body, Encoding.UTF8, "application/json");
        using var response = await Http.SendAsync(request, cancellation);
        Assert.Equal(status, (int)response.StatusCode);
        await RefusedAsync(response, path);
    }

    [Fact]
    public async Task Another_character_set_or_kind_of_body_is_refused()
    {
        using var odd = new StringContent("{}");
        odd.Headers.ContentType = MediaTypeHeaderValue.Parse("application/json; charset=nope");
        using var response = await Http.PostAsync("/api/v1/connections", odd, cancellation);
        Assert.Equal(HttpStatusCode.UnsupportedMediaType, response.StatusCode);
        using var text = new StringContent("{}", Encoding.UTF8, "text/plain");
        using var other = await Http.PostAsync("/api/v1/connections", text, cancellation);
        Assert.Equal(HttpStatusCode.UnsupportedMediaType, other.StatusCode);
        await RefusedAsync(other, "text/plain");
    }

    [Fact]
    public async Task What_was_sent_is_not_repeated_whole()
    {
        var name = new string('n', 100_000) + "!";
        using var response = await Http.PostAsJsonAsync("/api/v1/connections", new { name, kind = "stand-in" }, cancellation);
        Assert.Equal(HttpStatusCode.UnprocessableEntity, response.StatusCode);
        Assert.True((await response.Content.ReadAsByteArrayAsync(cancellation)).Length < 5000);
    }

    [Theory]
    [InlineData("/api/v1/crossings/x/start")]
    [InlineData("/API/v1/crossings/x/start")]
    [InlineData("/Api/V1/connections")]
    [InlineData("/stand-in/webhook")]
    [InlineData("/connections")]
    public async Task Another_sites_page_can_ask_for_nothing(string path)
    {
        foreach (
            var (header, value) in new[]
            {
                ("Origin", "http://elsewhere.invalid"),
                ("Origin", "null"),
                ("Origin", $"http://127.0.0.1:{empty.Process.Port + 1}"),
                ("Sec-Fetch-Site", "cross-site"),
                ("Sec-Fetch-Site", "same-site"),
            }
        )
        {
            using var request = new HttpRequestMessage(HttpMethod.Post, path)
            {
                Content = new StringContent("", Encoding.UTF8, "text/plain"),
            };
            request.Headers.Add(header, value);
            using var response = await Http.SendAsync(request, cancellation);
            Assert.True(response.StatusCode == HttpStatusCode.Forbidden, $"{header}: {value}: {response.StatusCode}");
        }

        using var own = new HttpRequestMessage(HttpMethod.Post, path) { Content = new StringContent("", Encoding.UTF8, "text/plain") };
        own.Headers.Add("Origin", $"http://127.0.0.1:{empty.Process.Port}");
        using var allowed = await Http.SendAsync(own, cancellation);
        Assert.NotEqual(HttpStatusCode.Forbidden, allowed.StatusCode);
    }

    [Fact]
    public async Task A_kept_secret_goes_only_where_it_was_given_for()
    {
        var settings = new Dictionary<string, object>
        {
            ["host"] = "db.invalid",
            ["port"] = 5432,
            ["database"] = "d",
            ["user"] = "u",
            ["tls"] = "require",
        };
        async Task<HttpResponseMessage> PutAsync(string key, object value, bool withSecret)
        {
            var changed = new Dictionary<string, object>(settings) { [key] = value };
            return await Http.PutAsJsonAsync(
                "/api/v1/connections/keeps",
                new
                {
                    name = "keeps",
                    kind = "postgresql",
                    settings = changed,
                    secret = withSecret ? new { password = "made-up" } : null,
                },
                cancellation
            );
        }

        using var made = await Http.PostAsJsonAsync(
            "/api/v1/connections",
            new
            {
                name = "keeps",
                kind = "postgresql",
                settings,
                secret = new { password = "made-up" },
            },
            cancellation
        );
        Assert.Equal(HttpStatusCode.Created, made.StatusCode);
        foreach (
            var (key, value) in new (string, object)[]
            {
                ("host", "evil.invalid"),
                ("port", 5433),
                ("user", "other"),
                ("tls", "prefer"),
                ("tls", "off"),
            }
        )
        {
            using var refused = await PutAsync(key, value, withSecret: false);
            Assert.True(refused.StatusCode == HttpStatusCode.UnprocessableEntity, $"{key}: {refused.StatusCode}");
            Assert.Contains("Give the secret again", await refused.Content.ReadAsStringAsync(cancellation), StringComparison.Ordinal);
        }

        using var note = await PutAsync("note", "a note", withSecret: false);
        Assert.Equal(HttpStatusCode.OK, note.StatusCode);
        using var moved = await PutAsync("host", "elsewhere.invalid", withSecret: true);
        Assert.Equal(HttpStatusCode.OK, moved.StatusCode);
    }

    [Fact]
    public async Task A_webhook_cannot_call_Vestige_itself_or_link_local_addresses()
    {
        foreach (
            var url in new[]
            {
                $"http://localhost:{empty.Process.Port}/api/v1/crossings/x/pause",
                $"http://127.0.0.1:{empty.Process.Port}/api/v1/connections",
                $"http://[::ffff:127.0.0.1]:{empty.Process.Port}/",
                $"http://127.1:{empty.Process.Port}/",
                "http://169.254.169.254/latest",
            }
        )
        {
            var settings = new
            {
                rules = Array.Empty<object>(),
                channels = new[]
                {
                    new
                    {
                        name = "hook",
                        kind = "webhook",
                        url,
                    },
                },
            };
            (await Http.PutAsJsonAsync("/api/v1/alerts/settings", settings, cancellation)).EnsureSuccessStatusCode();
            (await Http.PostAsJsonAsync("/api/v1/alerts/channels/hook/test", new { }, cancellation)).EnsureSuccessStatusCode();
            var until = DateTimeOffset.UtcNow.AddSeconds(60);
            while (
                WebUtility.HtmlDecode(await Http.GetStringAsync("/alerts", cancellation)) is var page
                && !page.Contains("is Vestige itself", StringComparison.Ordinal)
                && !page.Contains("link-local", StringComparison.Ordinal)
            )
            {
                Assert.True(DateTimeOffset.UtcNow < until, url);
                await Task.Delay(200, cancellation);
            }

            (
                await Http.PutAsJsonAsync(
                    "/api/v1/alerts/settings",
                    new { rules = Array.Empty<object>(), channels = Array.Empty<object>() },
                    cancellation
                )
            ).EnsureSuccessStatusCode();
        }
    }

    /// <summary>The process and the other answers go on while thirty people save the same definition.</summary>
    [Fact]
    public async Task Of_changes_that_were_made_from_one_version_one_is_kept()
    {
        foreach (var name in new[] { "one", "two" })
        {
            await Http.PostAsJsonAsync("/api/v1/connections", new { name, kind = "stand-in" }, cancellation);
        }

        object Definition(int i) =>
            new
            {
                name = "races",
                purpose = "copy",
                source = "one",
                target = "two",
                tables = new { rules = new[] { new { take = "one.*" } } },
                tags = new[] { $"t{i}" },
            };
        using var made = await Http.PostAsJsonAsync("/api/v1/crossings", Definition(0), cancellation);
        Assert.Equal(HttpStatusCode.Created, made.StatusCode);
        using var read = await Http.GetAsync("/api/v1/crossings/races", cancellation);
        var tag = read.Headers.ETag!;
        var codes = await Task.WhenAll(
            Enumerable
                .Range(1, 30)
                .Select(async i =>
                {
                    using var request = new HttpRequestMessage(HttpMethod.Put, "/api/v1/crossings/races")
                    {
                        Content = JsonContent.Create(Definition(i)),
                    };
                    request.Headers.IfMatch.Add(tag);
                    using var response = await Http.SendAsync(request, cancellation);
                    return response.StatusCode;
                })
        );
        Assert.Equal(1, codes.Count(code => code == HttpStatusCode.OK));
        Assert.Equal(29, codes.Count(code => code == HttpStatusCode.PreconditionFailed));
    }

    private async Task RefusedAsync(HttpResponseMessage response, string what)
    {
        Assert.True((int)response.StatusCode is >= 400 and < 500, $"{what}: {response.StatusCode}");
        Assert.Equal("application/problem+json", response.Content.Headers.ContentType?.MediaType);
        var problem = JsonSerializer.Deserialize<JsonElement>(await response.Content.ReadAsStringAsync(cancellation));
        Assert.StartsWith("https://vestige.invalid/problems/", problem.GetProperty("type").GetString(), StringComparison.Ordinal);
        var detail = problem.GetProperty("detail").GetString()!;
        Assert.DoesNotContain("System.", detail, StringComparison.Ordinal);
        Assert.True(detail.Length < 2000, what);
    }
}
