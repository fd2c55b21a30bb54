using System.Text.RegularExpressions;
using Vestige.Web.Guides;
using Xunit;

namespace Vestige.Web.Tests;

/// <summary>The guide as it ships: every page is reached, every link leads somewhere, and nothing is too long to be read once.</summary>
public sealed partial class GuideTests
{
    private const int MostLinesOfParagraph = 6;
    private static readonly GuideBook Guide = new();

    private static readonly string Folder = Path.GetFullPath(
        Path.Combine(AppContext.BaseDirectory, "..", "..", "..", "..", "..", "docs", "guide")
    );

    [Fact]
    public void Every_file_is_a_page_that_the_first_one_lists()
    {
        var files = Directory.GetFiles(Folder, "*.md").Select(Path.GetFileNameWithoutExtension).Where(name => name != "README");
        Assert.Equal(files.Order(StringComparer.Ordinal), Guide.Pages.Skip(1).Select(page => page.Slug).Order(StringComparer.Ordinal));
        Assert.All(Guide.Pages.Skip(1), page => Assert.NotEmpty(page.Section));
        Assert.Equal(Guide.Pages.Count, Guide.Pages.Select(page => page.Title).Distinct().Count());
    }

    [Fact]
    public void Every_link_leads_to_a_page_and_a_heading_and_every_picture_is_there()
    {
        foreach (var page in Guide.Pages)
        {
            foreach (var address in Links().Matches(page.Html).Select(match => match.Groups["address"].Value))
            {
                var parts = address.Split('#');
                var to = parts[0].Length == 0 ? page : Guide.Pages.FirstOrDefault(one => one.Address == parts[0]);
                Assert.True(to is not null, $"{page.Slug} leads to {address}");
                Assert.True(
                    parts.Length == 1 || to.Html.Contains($"id=\"{parts[1]}\"", StringComparison.Ordinal),
                    $"{page.Slug} leads to {address}"
                );
            }

            foreach (var picture in Pictures().Matches(page.Html).Select(match => match.Groups["name"].Value))
            {
                using var stream = GuideBook.Picture(picture);
                Assert.True(stream is not null, $"{page.Slug} shows {picture}");
            }
        }
    }

    [Theory]
    [InlineData("now")]
    [InlineData("tables")]
    [InlineData("treatment")]
    [InlineData("history")]
    [InlineData("quarantine")]
    [InlineData("reconcile")]
    [InlineData("pace")]
    [InlineData("definition")]
    [InlineData("stop")]
    public void The_link_of_a_view_leads_to_a_page_and_a_heading(string view)
    {
        var parts = GuideLink.OfView(view).Split('#');
        var page = Assert.Single(Guide.Pages, one => one.Address == parts[0]);
        Assert.True(parts.Length == 1 || page.Html.Contains($"id=\"{parts[1]}\"", StringComparison.Ordinal));
    }

    [Fact]
    public void No_paragraph_is_over_six_lines()
    {
        foreach (var file in Directory.GetFiles(Folder, "*.md"))
        {
            var plain = Code().Replace(File.ReadAllText(file), "");
            foreach (var paragraph in plain.Split("\n\n").Where(text => !text.StartsWith('|')))
            {
                var lines = paragraph.Trim().Split('\n').TakeWhile(line => !ListItem().IsMatch(line)).Count();
                Assert.True(lines <= MostLinesOfParagraph, $"{Path.GetFileName(file)}: {paragraph[..Math.Min(80, paragraph.Length)]}");
            }
        }
    }

    [Fact]
    public void Pages_are_found_by_any_of_their_words_with_the_text_around_them()
    {
        var found = Guide.Search("replica identity");
        Assert.Contains(found, match => match.Page.Slug == "tables");
        Assert.All(found, match => Assert.Matches("(?i)replica|identity", match.Excerpt));
        Assert.Equal("quarantine", Guide.Search("quarantine")[0].Page.Slug);
        Assert.Empty(Guide.Search("  "));
        Assert.Empty(Guide.Search("nowhere-at-all"));
    }

    [GeneratedRegex("href=\"(?<address>[/#][^\"]*)\"", RegexOptions.CultureInvariant | RegexOptions.ExplicitCapture, 1000)]
    private static partial Regex Links();

    [GeneratedRegex("src=\"/guide/screenshots/(?<name>[^\"]*)\"", RegexOptions.CultureInvariant | RegexOptions.ExplicitCapture, 1000)]
    private static partial Regex Pictures();

    [GeneratedRegex("```.*?```", RegexOptions.CultureInvariant | RegexOptions.Singleline, 1000)]
    private static partial Regex Code();

    [GeneratedRegex(@"^(- |\d+\. )", RegexOptions.CultureInvariant | RegexOptions.ExplicitCapture, 1000)]
    private static partial Regex ListItem();
}
