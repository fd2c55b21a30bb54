using System.Net;
using System.Text.RegularExpressions;
using Xunit;

namespace Vestige.Web.Tests;

/// <summary>The worst that holds of a crossing is said alike wherever it is shown, and nothing better beside it.</summary>
public sealed class HeadlineTests
{
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    [Fact]
    public async Task The_worst_that_holds_is_said_alike_by_API_metrics_and_pages()
    {
        await using var vestige = await RunningVestige.HostAsync("--empty", "true");
        foreach (var name in new[] { "a", "b" })
        {
            await vestige.PostAsync("/api/v1/connections", new { name, kind = "stand-in" });
        }

        await vestige.BenchAsync(
            "a",
            "CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO t VALUES (1, 'x'); CREATE TABLE u (id INTEGER PRIMARY KEY)"
        );
        await MakeAsync(vestige, "draft", "a.u");
        await SaidAsync(vestige, "draft", "draft");
        await MakeAsync(vestige, "c", "a.t");
        await vestige.PostAsync("/api/v1/crossings/c/start");
        await SaidAsync(vestige, "c", "following");

        await vestige.PostAsync("/api/v1/connections/a/drills/reader", new { values = new { on = "true" } });
        var waiting = await SaidAsync(vestige, "c", "waiting");
        Assert.Contains("The log of a cannot be read (drill).", waiting, StringComparison.Ordinal);
        Assert.Contains("Retrying", waiting, StringComparison.Ordinal);
        Assert.Equal(HttpStatusCode.OK, (await vestige.PostAsync("/api/v1/crossings/c/retry")).Code);
        await vestige.PostAsync("/api/v1/connections/a/drills/reader", new { values = new { on = "false" } });
        await SaidAsync(vestige, "c", "following");
        Assert.Equal(HttpStatusCode.Conflict, (await vestige.PostAsync("/api/v1/crossings/c/retry")).Code);

        await vestige.PostAsync("/api/v1/crossings/c/pause");
        await SaidAsync(vestige, "c", "paused");
        await vestige.PostAsync("/api/v1/crossings/c/resume");
        await SaidAsync(vestige, "c", "following");

        await vestige.BenchAsync("b", "UPDATE t SET v = 'changed at the target' WHERE id = 1");
        await vestige.PostAsync("/api/v1/crossings/c/reconciliations");
        var differs = await SaidAsync(vestige, "c", "differs");
        await AlertedAsync(vestige, "c", "rows that differ", differs);
        Assert.Contains("1 row of a.t differs", differs, StringComparison.Ordinal);

        // A held table is worse, also while the crossing is paused, and the page must not say that nothing waits.
        await vestige.BenchAsync("a", "ALTER TABLE t ADD COLUMN w TEXT; ALTER TABLE t DROP COLUMN w; UPDATE t SET v = 'y'");
        var held = await SaidAsync(vestige, "c", "held");
        await AlertedAsync(vestige, "c", "held", held);
        Assert.Contains("1 of 1 table is held", held, StringComparison.Ordinal);
        Assert.DoesNotContain("Nothing waits", await vestige.Http.GetStringAsync("/crossings/c", cancellation), StringComparison.Ordinal);
        await vestige.PostAsync("/api/v1/crossings/c/pause");
        await SaidAsync(vestige, "c", "held");
    }

    /// <summary>Its alert says what its headline says, and of which tables.</summary>
    private async Task AlertedAsync(RunningVestige vestige, string crossing, string kind, string sentence)
    {
        var until = DateTimeOffset.UtcNow + TimeSpan.FromMinutes(2);
        while (true)
        {
            var alerts = (await vestige.GetAsync("/api/v1/alerts")).EnumerateArray().ToList();
            var mine = alerts.Where(alert =>
                alert.GetProperty("crossing").GetString() == crossing && alert.GetProperty("kind").GetString() == kind
            );
            if (mine.FirstOrDefault() is { ValueKind: not System.Text.Json.JsonValueKind.Undefined } alert)
            {
                Assert.Equal(sentence, alert.GetProperty("what").GetString());
                Assert.Equal("a.t", Assert.Single(alert.GetProperty("tables").EnumerateArray()).GetString());
                return;
            }

            Assert.True(DateTimeOffset.UtcNow < until, $"No alert says {kind}: {string.Join(", ", alerts)}");
            await Task.Delay(100, cancellation);
        }
    }

    private static Task MakeAsync(RunningVestige vestige, string name, string table) =>
        vestige.PostAsync(
            "/api/v1/crossings",
            new
            {
                name,
                purpose = "copy",
                source = "a",
                target = "b",
                tables = new { rules = new[] { new { take = table } } },
            }
        );

    /// <summary>Waits for a word, and sees that everybody says it; returns its sentence.</summary>
    private async Task<string> SaidAsync(RunningVestige vestige, string crossing, string word)
    {
        await vestige.WaitAsync(
            crossing,
            status => status.GetProperty("headline").GetProperty("word").GetString() == word,
            $"the headline {word}"
        );
        var status = await vestige.StatusAsync(crossing);
        Assert.Equal(word, status.GetProperty("reasons")[0].GetProperty("kind").GetString());
        var listed = (await vestige.GetAsync("/api/v1/crossings"))
            .EnumerateArray()
            .Single(one => one.GetProperty("name").GetString() == crossing);
        Assert.Equal(word, listed.GetProperty("headline").GetProperty("word").GetString());
        Assert.Matches(
            new Regex(
                $"^vestige_headline{{crossing=\"{crossing}\",word=\"{word}\"}} 1(\\.0)?$",
                RegexOptions.Multiline,
                TimeSpan.FromSeconds(5)
            ),
            await vestige.Http.GetStringAsync("/metrics", cancellation)
        );
        foreach (var page in new[] { "/", "/crossings", $"/crossings/{crossing}" })
        {
            Assert.Contains($"aria-label=\"{word}\"", await vestige.Http.GetStringAsync(page, cancellation), StringComparison.Ordinal);
        }

        return status.GetProperty("headline").GetProperty("sentence").GetString()!;
    }
}
