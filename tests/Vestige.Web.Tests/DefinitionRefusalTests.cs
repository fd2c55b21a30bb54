using System.Text;
using Xunit;

namespace Vestige.Web.Tests;

/// <summary>Definitions that cannot be taken, as a program would send them; none of them leaves anything behind.</summary>
public sealed class DefinitionRefusalTests(EmptyVestige empty) : IClassFixture<EmptyVestige>
{
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;
    private readonly RunningVestige vestige = empty.Process;

    [Theory]
    [InlineData("""{"name":"x","purpose":"copy","source":"a","target":"a","tables":{"rules":[{"take":"*"}]}}""", 422, "target")]
    [InlineData("""{"name":"Bad Name","purpose":"copy","source":"a","target":"b","tables":{"rules":[{"take":"*"}]}}""", 422, "name")]
    [InlineData("""{"name":"x","purpose":"lake","source":"a","target":"b","tables":{"rules":[{"take":"*"}]}}""", 422, "purpose")]
    [InlineData("""{"name":"x","purpose":"copy","source":"nowhere","target":"b","tables":{"rules":[{"take":"*"}]}}""", 422, "source")]
    [InlineData("""{"name":"x","purpose":"copy","source":"a","target":"b","tables":{"rules":[]}}""", 422, "tables.rules")]
    [InlineData(
        """{"name":"x","purpose":"copy","source":"a","target":"b","tables":{"rules":[{"take":"*"}]},"colour":"red"}""",
        400,
        "colour"
    )]
    [InlineData("""{"name":"x","purpose":"copy","source":"a","target":"b","tables":{"rules":[{"takes":"*"}]}}""", 400, "takes")]
    [InlineData("""{"name":"x","purpose":"copy","source":"a","target":"b"}""", 400, "tables")]
    [InlineData("""{"name":7,"purpose":"copy","source":"a","target":"b","tables":{"rules":[{"take":"*"}]}}""", 400, "name")]
    [InlineData(
        """{"name":"x","purpose":"copy","source":"a","target":"b","tables":{"rules":[{"take":"*"},null]}}""",
        422,
        "tables.rules[1]"
    )]
    [InlineData(
        """
        {"name":"x","purpose":"copy","source":"a","target":"b","tables":{"rules":[{"take":"*"}]},
        "treatment":[{"tables":"*","mask":[{"column":null,"by":"hash"}]}]}
        """,
        400,
        "mask[0].column"
    )]
    [InlineData(
        """
        {"name":"x","purpose":"copy","source":"a","target":"b","tables":{"rules":[{"take":"*"}]},
        "treatment":[{"tables":"*","keep":"a","split":[]}]}
        """,
        422,
        "treatment[0]"
    )]
    [InlineData(
        """{"name":"x","purpose":"copy","source":"a","target":"b","tables":{"rules":[{"take":"*"}]},"start":{"existing":"keep"}}""",
        422,
        "start.existing"
    )]
    [InlineData(
        """
        {"name":"x","purpose":"copy","source":"a","target":"b","tables":{"rules":[{"take":"*"}]},
        "start":{"kind":"changes","existing":"merge"}}
        """,
        422,
        "start.existing"
    )]
    [InlineData("not json", 400, "malformed")]
    public async Task Bad_definitions_are_refused_by_name_and_change_nothing(string body, int code, string names)
    {
        foreach (var name in new[] { "a", "b" })
        {
            // Whichever of these tests comes first makes them.
            await vestige.PostAsync("/api/v1/connections", new { name, kind = "stand-in" });
        }

        using var content = new StringContent(body, Encoding.UTF8, "application/json");
        using var response = await vestige.Http.PostAsync("/api/v1/crossings", content, cancellation);
        var answer = await response.Content.ReadAsStringAsync(cancellation);
        Assert.Equal(code, (int)response.StatusCode);
        Assert.Equal("application/problem+json", response.Content.Headers.ContentType!.MediaType);
        Assert.Contains(names, answer, StringComparison.Ordinal);
        Assert.DoesNotContain("Vestige.", answer, StringComparison.Ordinal);
        Assert.DoesNotContain("System.", answer, StringComparison.Ordinal);
        Assert.Equal(0, (await vestige.GetAsync("/api/v1/crossings")).GetArrayLength());
    }
}
