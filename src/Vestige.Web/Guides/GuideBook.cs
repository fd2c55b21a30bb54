using System.Reflection;
using Markdig;
using Markdig.Renderers;
using Markdig.Syntax;
using Markdig.Syntax.Inlines;

namespace Vestige.Web.Guides;

/// <summary>
/// The guide, from the Markdown files that ship with the program. The first page lists the others: its headings are the sections, its
/// links the pages in their order. Read once; safe for several threads.
/// </summary>
public sealed class GuideBook
{
    private const string Root = "guide/";
    private const string FirstPage = "README";
    private const int ExcerptLength = 160;

    // Raw HTML is shown as text: nothing in the guide needs it.
    private static readonly MarkdownPipeline Pipeline = new MarkdownPipelineBuilder()
        .UsePipeTables()
        .UseAutoIdentifiers(Markdig.Extensions.AutoIdentifiers.AutoIdentifierOptions.GitHub)
        .DisableHtml()
        .Build();

    private readonly Lazy<IReadOnlyList<GuidePage>> pages = new(ReadAll);

    /// <summary>All pages, in their order; the first is the list of the others.</summary>
    public IReadOnlyList<GuidePage> Pages => pages.Value;

    /// <summary>The page of an address; null when there is none.</summary>
    public GuidePage? Find(string? slug) => Pages.FirstOrDefault(page => page.Slug == (slug ?? ""));

    /// <summary>The pages in which every word of a text occurs, those with a word in the title first.</summary>
    public IReadOnlyList<GuideMatch> Search(string text)
    {
        ArgumentNullException.ThrowIfNull(text);
        var words = text.Split(' ', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries);
        return words.Length == 0
            ? []
            :
            [
                .. Pages
                    .Skip(1)
                    .Where(page => words.All(word => Has(page.Title, word) || Has(page.Text, word)))
                    .OrderByDescending(page => words.Count(word => Has(page.Title, word)))
                    .Select(page => new GuideMatch(page, Excerpt(page.Text, words))),
            ];
    }

    /// <summary>A picture that pages show; null when there is none of that name.</summary>
    public static Stream? Picture(string name) => Assembly.GetExecutingAssembly().GetManifestResourceStream($"{Root}screenshots/{name}");

    private static bool Has(string text, string word) => text.Contains(word, StringComparison.OrdinalIgnoreCase);

    private static string Excerpt(string text, string[] words)
    {
        var places = words.Select(word => text.IndexOf(word, StringComparison.OrdinalIgnoreCase));
        var first = places.Where(at => at >= 0).DefaultIfEmpty(0).Min();
        var begin = Math.Max(0, first - (ExcerptLength / 3));
        begin = begin == 0 ? 0 : text.IndexOf(' ', begin) + 1;
        var length = Math.Min(ExcerptLength, text.Length - begin);
        return $"{(begin > 0 ? "… " : "")}{text.Substring(begin, length)}{(begin + length < text.Length ? " …" : "")}";
    }

    private static List<GuidePage> ReadAll()
    {
        var first = Parse(FirstPage);
        List<GuidePage> all = [];
        var section = "";
        foreach (var block in first.Descendants())
        {
            if (block is HeadingBlock { Level: 2 } heading)
            {
                section = TextOf(heading);
            }
            else if (section.Length > 0 && block is LinkInline { Url: { } url } && url.EndsWith(".md", StringComparison.Ordinal))
            {
                all.Add(Page(url[..^3], section, Parse(url[..^3])));
            }
        }

        // Last, since it changes the links that were followed.
        return [Page("", "", first), .. all];
    }

    private static MarkdownDocument Parse(string name)
    {
        using var stream =
            Assembly.GetExecutingAssembly().GetManifestResourceStream($"{Root}{name}.md")
            ?? throw new InvalidOperationException($"The guide has no page {name}.");
        using var reader = new StreamReader(stream);
        return Markdown.Parse(reader.ReadToEnd(), Pipeline);
    }

    private static GuidePage Page(string slug, string section, MarkdownDocument document)
    {
        var title = document.OfType<HeadingBlock>().First();
        document.Remove(title);
        foreach (var link in document.Descendants<LinkInline>())
        {
            link.Url = AddressOf(link.Url ?? "");
        }

        using var writer = new StringWriter();
        var renderer = new HtmlRenderer(writer);
        Pipeline.Setup(renderer);
        renderer.Render(document);
        var text = string.Join(' ', document.Descendants<LeafBlock>().Select(TextOf).Where(part => part.Length > 0));
        return new GuidePage(slug, TextOf(title), section, writer.ToString(), text);
    }

    /// <summary>Links between the files lead to the pages, those to pictures to where these are served.</summary>
    private static string AddressOf(string url)
    {
        if (url.StartsWith("../screenshots/", StringComparison.Ordinal))
        {
            return $"/guide{url[2..]}";
        }

        var hash = url.IndexOf('#', StringComparison.Ordinal);
        var (file, part) = hash < 0 ? (url, "") : (url[..hash], url[hash..]);
        return file.EndsWith(".md", StringComparison.Ordinal) ? $"/guide/{file[..^3]}{part}" : url;
    }

    private static string TextOf(LeafBlock block) =>
        block.Inline is null
            ? block.Lines.ToString().ReplaceLineEndings(" ").Trim()
            : string.Concat(
                    block
                        .Inline.Descendants()
                        .Select(inline =>
                            inline switch
                            {
                                LiteralInline literal => literal.Content.ToString(),
                                CodeInline code => code.Content,
                                LineBreakInline => " ",
                                _ => "",
                            }
                        )
                )
                .Trim();
}
