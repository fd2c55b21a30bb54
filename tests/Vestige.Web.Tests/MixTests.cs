using System.Globalization;
using System.Net;
using System.Net.Http.Json;
using Xunit;

namespace Vestige.Web.Tests;

/// <summary>
/// Connections and crossings are created, changed, deleted, started and stopped by several at once. Whatever the order, no answer is an
/// error of ours, every crossing's connections exist afterwards, and the process starts again with the same definitions.
/// </summary>
public sealed class MixTests
{
    private const int Callers = 6;
    private const int CallsEach = 15;
    private static readonly string[] Pages =
    [
        "/",
        "/crossings",
        "/connections",
        "/alerts",
        "/events",
        "/reconcile",
        "/api/v1/crossings",
        "/api/v1/connections",
    ];
    private static readonly string[] Connections = ["m1", "m2", "m3", "m4"];
    private static readonly string[] Crossings = ["x1", "x2", "x3", "x4"];
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    [Fact]
    public async Task Definitions_stay_consistent_whoever_changes_them_at_once()
    {
        var mixes = int.Parse(Environment.GetEnvironmentVariable("VESTIGE_MIXES") ?? "2", CultureInfo.InvariantCulture);
        var first = int.Parse(
            Environment.GetEnvironmentVariable("VESTIGE_SEED") ?? $"{Random.Shared.Next(100_000)}",
            CultureInfo.InvariantCulture
        );
        TestContext.Current.TestOutputHelper!.WriteLine($"seeds {first} to {first + mixes - 1}");
        await using var vestige = await RunningVestige.StartAsync("--empty", "true");
        var answers = new SortedDictionary<int, int>();
        for (var seed = first; seed < first + mixes; seed++)
        {
            var callers = Enumerable.Range(0, Callers).Select(caller => CallAsync(vestige, new Random((seed * Callers) + caller)));
            foreach (var status in (await Task.WhenAll(callers)).SelectMany(all => all))
            {
                answers[status] = answers.GetValueOrDefault(status) + 1;
            }

            Assert.True(answers.Keys.All(status => status < 500), $"seed {seed}: {string.Join(", ", answers)}\n{vestige.LastLines}");
            var before = await ConsistentAsync(vestige, seed);
            vestige.Kill();
            await vestige.LaunchAsync();
            Assert.Equal(before, await ConsistentAsync(vestige, seed));
        }

        TestContext.Current.TestOutputHelper!.WriteLine(string.Join(", ", answers.Select(pair => $"{pair.Value} of {pair.Key}")));
        Assert.True(answers.GetValueOrDefault(201) > mixes && answers.GetValueOrDefault(204) > 0, "hardly anything was made and deleted");
    }

    /// <summary>What was there when a request began may be gone before it is answered.</summary>
    [Fact]
    public async Task A_name_that_many_make_change_and_delete_at_once_is_never_an_error_of_ours()
    {
        await using var vestige = await RunningVestige.StartAsync("--empty", "true");
        await vestige.PostAsync("/api/v1/connections", new { name = "a", kind = "stand-in" });
        await vestige.PostAsync("/api/v1/connections", new { name = "b", kind = "stand-in" });
        var answers = await Task.WhenAll(
            Enumerable
                .Range(0, 12)
                .Select(async caller =>
                {
                    var statuses = new List<int>();
                    for (var i = caller; i < caller + 120; i++)
                    {
                        using var request = caller % 3 == 0 ? OfOneCrossing(i) : OfOneConnection(i);
                        using var response = await vestige.Http.SendAsync(request, cancellation);
                        statuses.Add((int)response.StatusCode);
                    }

                    return statuses;
                })
        );
        Assert.True(answers.SelectMany(statuses => statuses).All(status => status < 500), vestige.LastLines);
    }

    /// <summary>Everything that exists, after checking that it is consistent.</summary>
    private async Task<string> ConsistentAsync(RunningVestige vestige, int seed)
    {
        foreach (var page in Pages)
        {
            using var response = await vestige.Http.GetAsync(page, cancellation);
            Assert.True(response.StatusCode == HttpStatusCode.OK, $"seed {seed}: {page} answers {response.StatusCode}");
        }

        var connections = (await vestige.GetAsync("/api/v1/connections"))
            .EnumerateArray()
            .Select(connection => connection.GetProperty("name").GetString()!)
            .Order()
            .ToList();
        var crossings = (await vestige.GetAsync("/api/v1/crossings"))
            .EnumerateArray()
            .Select(crossing => crossing.GetProperty("definition"))
            .ToList();
        foreach (var crossing in crossings)
        {
            foreach (var end in new[] { "source", "target" })
            {
                Assert.True(
                    connections.Contains(crossing.GetProperty(end).GetString()!),
                    $"seed {seed}: {crossing} names a connection that does not exist; there are {string.Join(", ", connections)}"
                );
            }

            using var status = await vestige.Http.GetAsync(
                $"/api/v1/crossings/{crossing.GetProperty("name").GetString()}/status",
                cancellation
            );
            Assert.Equal(HttpStatusCode.OK, status.StatusCode);
        }

        return $"{string.Join(' ', connections)} {string.Join(' ', crossings.Select(crossing => crossing.GetRawText()).Order())}";
    }

    private async Task<List<int>> CallAsync(RunningVestige vestige, Random random)
    {
        var answers = new List<int>();
        for (var i = 0; i < CallsEach; i++)
        {
            using var request = Next(random);
            using var response = await vestige.Http.SendAsync(request, cancellation);
            answers.Add((int)response.StatusCode);
        }

        return answers;
    }

    private static HttpRequestMessage Next(Random random)
    {
        var (connection, crossing) = (Connections[random.Next(Connections.Length)], Crossings[random.Next(Crossings.Length)]);
        return random.Next(14) switch
        {
            < 3 => Of(HttpMethod.Post, "/api/v1/connections", new { name = connection, kind = "stand-in" }),
            3 => Of(HttpMethod.Put, $"/api/v1/connections/{connection}?confirm=true", new { name = connection, kind = "stand-in" }),
            4 => Of(HttpMethod.Delete, $"/api/v1/connections/{connection}"),
            5 => Of(
                HttpMethod.Post,
                $"/api/v1/bench/{connection}",
                new
                {
                    statement = "CREATE TABLE IF NOT EXISTS t (id INTEGER PRIMARY KEY); INSERT OR IGNORE INTO t VALUES "
                        + $"({random.Next(100)})",
                }
            ),
            < 8 => Of(HttpMethod.Post, "/api/v1/crossings", Definition(random, crossing)),
            8 => Of(HttpMethod.Put, $"/api/v1/crossings/{crossing}?confirm=true", Definition(random, crossing)),
            9 => Of(HttpMethod.Delete, $"/api/v1/crossings/{crossing}"),
            < 12 => Of(HttpMethod.Post, $"/api/v1/crossings/{crossing}/start"),
            12 => Of(HttpMethod.Post, $"/api/v1/crossings/{crossing}/pause"),
            _ => Of(HttpMethod.Post, $"/api/v1/crossings/{crossing}/stop", new { manner = "now" }),
        };
    }

    private static HttpRequestMessage OfOneConnection(int which)
    {
        var connection = new { name = "c", kind = "stand-in" };
        return (which % 3) switch
        {
            0 => Of(HttpMethod.Post, "/api/v1/connections", connection),
            1 => Of(HttpMethod.Put, "/api/v1/connections/c?confirm=true", connection),
            _ => Of(HttpMethod.Delete, "/api/v1/connections/c"),
        };
    }

    private static HttpRequestMessage OfOneCrossing(int which)
    {
        var crossing = new
        {
            name = "x",
            purpose = "copy",
            source = "a",
            target = "b",
            tables = new { rules = new[] { new { take = "*.*" } } },
        };
        return (which % 3) switch
        {
            0 => Of(HttpMethod.Post, "/api/v1/crossings", crossing),
            1 => Of(HttpMethod.Put, "/api/v1/crossings/x?confirm=true", crossing),
            _ => Of(HttpMethod.Delete, "/api/v1/crossings/x"),
        };
    }

    private static object Definition(Random random, string name) =>
        new
        {
            name,
            purpose = "copy",
            source = Connections[random.Next(Connections.Length)],
            target = Connections[random.Next(Connections.Length)],
            tables = new { rules = new[] { new { take = "*.*" } } },
            tags = new[] { $"t{random.Next(3)}" },
        };

    private static HttpRequestMessage Of(HttpMethod method, string path, object? body = null)
    {
        var request = new HttpRequestMessage(method, path) { Content = body is null ? null : JsonContent.Create(body) };
        request.Headers.TryAddWithoutValidation("If-Match", "*");
        return request;
    }
}
