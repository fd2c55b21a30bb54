using System.Text.Json;
using Xunit;

namespace Vestige.Web.Tests;

/// <summary>What a newcomer sees first.</summary>
public sealed class DemoTests
{
    /// <summary>Six crossings in unlike states; a restart changes none of them.</summary>
    [Fact]
    public async Task It_shows_six_crossings_in_unlike_states()
    {
        var expected = new Dictionary<string, string>
        {
            ["circulation-to-warehouse"] = "following",
            ["catalogue-to-depot"] = "stopped",
            ["fines-to-ledger"] = "draft",
            ["patrons-masked"] = "following",
            ["subjects-to-archive"] = "differs",
            ["titles-to-desk"] = "quarantine",
        };
        await using var vestige = await RunningVestige.StartAsync("--demo-loans", "300");
        foreach (var (crossing, word) in expected)
        {
            await vestige.WaitAsync(crossing, status => WordOf(status) == word, word);
        }

        Assert.Equal(2, (await vestige.GetAsync("/api/v1/crossings/titles-to-desk/quarantine")).GetProperty("total").GetInt32());
        const string Unmasked = "SELECT count(*) FROM patron WHERE address <> 'withheld' OR card LIKE 'P%'";
        var masked = (await vestige.BenchAsync("analysis", Unmasked)).Body;
        Assert.Equal("0", masked.GetProperty("rows")[0][0].GetString());
        vestige.Kill();
        await vestige.LaunchAsync();
        foreach (var (crossing, word) in expected)
        {
            await vestige.WaitAsync(crossing, status => WordOf(status) == word, word);
        }
    }

    private static string? WordOf(JsonElement status) => status.GetProperty("headline").GetProperty("word").GetString();
}
