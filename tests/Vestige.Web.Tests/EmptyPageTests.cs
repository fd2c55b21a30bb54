using System.Net;
using System.Text.RegularExpressions;
using Xunit;

namespace Vestige.Web.Tests;

/// <summary>The pages of a process in which there is nothing yet.</summary>
public sealed partial class EmptyPageTests(EmptyVestige empty) : IClassFixture<EmptyVestige>
{
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;
    private readonly RunningVestige vestige = empty.Process;

    [Theory]
    [InlineData("/", "There is no crossing yet")]
    [InlineData("/crossings", "New crossing")]
    [InlineData("/crossings/new", "Add connections")]
    [InlineData("/connections", "Create")]
    [InlineData("/find?q=anything", "anything")]
    [InlineData("/bench", "There is no connection to run statements on")]
    public async Task With_nothing_in_it_each_page_says_what_to_do(string path, string says)
    {
        using var answer = await vestige.Http.GetAsync(path, cancellation);
        var html = await answer.Content.ReadAsStringAsync(cancellation);
        Assert.True(answer.IsSuccessStatusCode, $"{path}: {answer.StatusCode} {html}");
        Assert.Contains(says, WebUtility.HtmlDecode(html), StringComparison.Ordinal);
        Assert.DoesNotContain("style=", html, StringComparison.Ordinal);
        Assert.DoesNotMatch(InlineScript(), html);
    }

    [Theory]
    [InlineData("/crossings/nowhere")]
    [InlineData("/crossings/nowhere/tables")]
    [InlineData("/connections/nowhere")]
    [InlineData("/connections/nowhere/tables/a.t")]
    [InlineData("/bench/nowhere")]
    [InlineData("/no/such/page")]
    public async Task What_is_not_there_is_said_on_a_page_with_a_way_on(string path)
    {
        using var answer = await vestige.Http.GetAsync(path, cancellation);
        Assert.Equal(HttpStatusCode.NotFound, answer.StatusCode);
        var html = await answer.Content.ReadAsStringAsync(cancellation);
        Assert.Contains("href=\"/\"", html, StringComparison.Ordinal);
        Assert.Contains("vestige", html, StringComparison.Ordinal);
    }

    [GeneratedRegex("<script(?![^>]*src=)", RegexOptions.None, matchTimeoutMilliseconds: 1000)]
    private static partial Regex InlineScript();
}
