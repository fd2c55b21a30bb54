using System.Globalization;
using System.Net.Http.Headers;
using System.Text;
using System.Text.Json;
using Xunit;

namespace Vestige.Web.Tests;

/// <summary>
/// Each operation of the OpenAPI document, called with what is valid, borderline and hostile. The rule: no 5xx but those of the
/// server's own state, an answer in time, and a process that lives and still follows.
/// </summary>
public sealed class InterfaceFuzzTests
{
    private static readonly string[] Words =
    [
        "",
        "0",
        "-1",
        "7",
        "1e400",
        "NaN",
        "null",
        "true",
        "x",
        "shop",
        "copy",
        "items",
        "item",
        "shop.item",
        "nodot",
        ".",
        "..",
        "a.b.c",
        "shop\n",
        " shop",
        "SHOP",
        "sh\0op",
        "ünïcödé",
        "🐟",
        "%",
        "%00",
        "../../etc/passwd",
        "'; DROP TABLE item; --",
        "\"",
        "{}",
        "[]",
        "[null]",
        "{\"id\":1}",
        "2026-11-29",
        "2026-13-45T99:99:99Z",
        "9999-12-31T23:59:59.9999999Z",
        "-9223372036854775808",
        "18446744073709551616",
        "source",
        "target",
        "drain",
        "now",
        "*",
        "not *",
        "<script>",
        "new",
        "import",
        "steer",
    ];

    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    [Fact]
    public async Task Whatever_is_sent_is_answered_in_time_and_never_with_an_error_of_ours()
    {
        var seed = int.Parse(
            Environment.GetEnvironmentVariable("VESTIGE_SEED") ?? $"{Random.Shared.Next(100_000)}",
            CultureInfo.InvariantCulture
        );
        var requests = int.Parse(Environment.GetEnvironmentVariable("VESTIGE_REQUESTS") ?? "3000", CultureInfo.InvariantCulture);
        TestContext.Current.TestOutputHelper!.WriteLine($"seed {seed}, {requests} requests");
        var random = new Random(seed);
        await using var vestige = await RunningVestige.HostAsync("--empty", "true");
        await PrepareAsync(vestige);
        var document = await vestige.GetAsync("/openapi/v1.json");
        var operations = document
            .GetProperty("paths")
            .EnumerateObject()
            .SelectMany(path => path.Value.EnumerateObject().Select(method => (Path: path.Name, Method: method.Name, Body: method.Value)))
            .Where(one => one.Method is "get" or "post" or "put" or "delete")
            .ToList();
        var broken = new List<string>();
        var answers = new SortedDictionary<int, int>();
        for (var i = 0; i < requests && broken.Count < 20; i++)
        {
            if (i % 100 == 99)
            {
                await MakeAgainAsync(vestige);
            }

            var (path, method, operation) = operations[random.Next(operations.Count)];
            using var request = Request(random, path, method, operation, document);
            var began = TimeProvider.System.GetTimestamp();
            using var response = await vestige.Http.SendAsync(request, cancellation);
            var took = TimeProvider.System.GetElapsedTime(began);
            var status = (int)response.StatusCode;
            answers[status] = answers.GetValueOrDefault(status) + 1;
            if (status is >= 500 and not (503 or 507))
            {
                broken.Add(
                    $"{status} for {method} {request.RequestUri} "
                        + $"{(request.Content is null ? "" : Short(await request.Content.ReadAsStringAsync(cancellation)))}: "
                        + $"{Short(await response.Content.ReadAsStringAsync(cancellation))}"
                );
            }
            else if (took > TimeSpan.FromSeconds(30))
            {
                broken.Add($"{took} for {method} {request.RequestUri}");
            }
        }

        TestContext.Current.TestOutputHelper!.WriteLine(string.Join(", ", answers.Select(pair => $"{pair.Value} of {pair.Key}")));
        Assert.True(answers.GetValueOrDefault(200) > requests / 20, "hardly anything was valid");
        Assert.True(broken.Count == 0, $"seed {seed}: {string.Join("\n", broken)}");
        Assert.Equal("alive", await vestige.Http.GetStringAsync("/healthz", cancellation));
        await vestige.BenchAsync("steady", "INSERT INTO kept VALUES (1001)");
        await vestige.WaitAsync(
            "steady-to-rest",
            status =>
                status.GetProperty("state").GetString() == "following" && status.GetProperty("lag").GetProperty("current").GetBoolean(),
            "the crossing that nothing is sent to"
        );
    }

    private static async Task PrepareAsync(RunningVestige vestige)
    {
        foreach (var name in new[] { "shop", "copy", "steady", "rest" })
        {
            await vestige.PostAsync("/api/v1/connections", new { name, kind = "stand-in" });
        }

        await vestige.BenchAsync("shop", "CREATE TABLE item (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO item VALUES (1, 'x'), (2, 'y')");
        await vestige.BenchAsync("steady", "CREATE TABLE kept (id INTEGER PRIMARY KEY); INSERT INTO kept VALUES (1)");
        foreach (var (name, source, target) in new[] { ("items", "shop", "copy"), ("steady-to-rest", "steady", "rest") })
        {
            await vestige.PostAsync(
                "/api/v1/crossings",
                new
                {
                    name,
                    purpose = "copy",
                    source,
                    target,
                    tables = new { rules = new[] { new { take = "*.*" } } },
                }
            );
            await vestige.PostAsync($"/api/v1/crossings/{name}/start");
            await vestige.WaitAsync(name, status => status.GetProperty("state").GetString() == "following", $"{name} following");
        }
    }

    /// <summary>What requests have removed or changed is there again, so that later ones meet more than the first check.</summary>
    private static async Task MakeAgainAsync(RunningVestige vestige)
    {
        foreach (var name in new[] { "shop", "copy" })
        {
            await vestige.PostAsync("/api/v1/connections", new { name, kind = "stand-in" });
        }

        await vestige.PostAsync(
            "/api/v1/crossings",
            new
            {
                name = "items",
                purpose = "copy",
                source = "shop",
                target = "copy",
                tables = new { rules = new[] { new { take = "*.*" } } },
            }
        );
        await vestige.PostAsync("/api/v1/crossings/items/start");
    }

    private static HttpRequestMessage Request(Random random, string path, string method, JsonElement operation, JsonElement document)
    {
        var query = new List<string>();
        foreach (var parameter in operation.TryGetProperty("parameters", out var all) ? all.EnumerateArray() : [])
        {
            var name = parameter.GetProperty("name").GetString()!;
            var value = Value(random, name);
            if (parameter.GetProperty("in").GetString() == "path")
            {
                path = path.Replace(
                    $"{{{name}}}",
                    Uri.EscapeDataString(
                        value.Length == 0 || value is "." or ".." || value.Contains('\0', StringComparison.Ordinal) ? "x" : value
                    ),
                    StringComparison.Ordinal
                );
            }
            else if (parameter.GetProperty("in").GetString() == "query" && random.Next(3) > 0)
            {
                query.Add($"{name}={Uri.EscapeDataString(value)}");
            }
        }

        // Nothing is sent to one crossing, which must follow to the end.
        path = path.Replace("steady", "shop", StringComparison.Ordinal);
        var request = new HttpRequestMessage(
            new HttpMethod(method.ToUpperInvariant()),
            query.Count == 0 ? path : $"{path}?{string.Join('&', query)}"
        );
        if (random.Next(2) == 0)
        {
            request.Headers.TryAddWithoutValidation(
                "If-Match",
                random.Next(3) switch
                {
                    0 => "*",
                    1 => "\"1\"",
                    _ => "nonsense",
                }
            );
        }

        if (method is "post" or "put" && random.Next(10) > 0)
        {
            var (text, type) = Body(random, operation, document);
            request.Content = new StringContent(text, Encoding.UTF8);
            request.Content.Headers.ContentType = MediaTypeHeaderValue.Parse(type);
        }

        return request;
    }

    /// <summary>Often what there is, so that more than the first check is met.</summary>
    private static string Value(Random random, string name) =>
        random.Next(3) > 0
            ? name switch
            {
                "name" or "crossing" => random.Next(2) == 0 ? "items" : "shop",
                "connection" => random.Next(2) == 0 ? "shop" : "copy",
                "role" => random.Next(2) == 0 ? "source" : "target",
                "table" => "shop.item",
                "key" or "number" or "id" => "1",
                _ => Words[random.Next(Words.Length)],
            }
        : random.Next(20) == 0 ? new string('x', random.Next(1, 5000))
        : Words[random.Next(Words.Length)];

    private static (string Text, string Type) Body(Random random, JsonElement operation, JsonElement document)
    {
        var schema =
            operation.TryGetProperty("requestBody", out var body)
            && body.GetProperty("content").TryGetProperty("application/json", out var json)
            && json.TryGetProperty("schema", out var found)
                ? found
                : default;
        var text = random.Next(8) switch
        {
            0 => Words[random.Next(Words.Length)],
            1 => new string('[', random.Next(1, 200)),
            2 => "{\"a\":" + Made(random, schema, document, 0) + "}",
            _ => Made(random, schema, document, 0),
        };
        return (
            text,
            random.Next(12) switch
            {
                0 => "application/yaml",
                1 => "text/plain",
                2 => "application/json; charset=utf-16",
                3 => "application/x-www-form-urlencoded",
                _ => "application/json",
            }
        );
    }

    private static string Made(Random random, JsonElement schema, JsonElement document, int depth)
    {
        if (schema.ValueKind == JsonValueKind.Object && schema.TryGetProperty("$ref", out var reference))
        {
            schema = document.GetProperty("components").GetProperty("schemas").GetProperty(reference.GetString()!.Split('/')[^1]);
        }

        if (schema.ValueKind != JsonValueKind.Object || depth > 5 || random.Next(12) == 0)
        {
            return Scalar(random);
        }

        if (schema.TryGetProperty("properties", out var properties))
        {
            var fields = properties
                .EnumerateObject()
                .Where(_ => random.Next(5) > 0)
                .Select(field =>
                {
                    var isNamed = field.Name is "name" or "source" or "target" or "connection" && random.Next(3) > 0;
                    var value = isNamed
                        ? JsonSerializer.Serialize(Value(random, field.Name == "name" ? "name" : "connection"))
                        : Made(random, field.Value, document, depth + 1);
                    return $"{JsonSerializer.Serialize(field.Name)}:{value}";
                });
            return $"{{{string.Join(',', fields)}}}";
        }

        if (schema.TryGetProperty("items", out var items))
        {
            return $"[{string.Join(',', Enumerable.Range(0, random.Next(4)).Select(_ => Made(random, items, document, depth + 1)))}]";
        }

        if (schema.TryGetProperty("enum", out var choices) && random.Next(4) > 0)
        {
            return choices[random.Next(choices.GetArrayLength())].GetRawText();
        }

        return schema.TryGetProperty("additionalProperties", out var extra) && extra.ValueKind == JsonValueKind.Object
            ? $"{{\"host\":{Made(random, extra, document, depth + 1)},\"x\":{Made(random, extra, document, depth + 1)}}}"
            : Scalar(random);
    }

    private static string Scalar(Random random) =>
        random.Next(6) switch
        {
            0 => "null",
            1 => random.Next(2) == 0 ? "true" : "[]",
            2 => random.NextInt64(long.MinValue, long.MaxValue).ToString(CultureInfo.InvariantCulture),
            3 => "-0.5e-300",
            _ => JsonSerializer.Serialize(Words[random.Next(Words.Length)]),
        };

    private static string Short(string text) => text.Length > 300 ? text[..300] : text;
}
