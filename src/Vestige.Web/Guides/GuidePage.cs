namespace Vestige.Web.Guides;

/// <summary>A page of the guide.</summary>
/// <param name="Slug">Its name in addresses; empty for the first page.</param>
/// <param name="Title">Its title.</param>
/// <param name="Section">The heading that it is listed under; empty for the first page.</param>
/// <param name="Html">Its text without the title.</param>
/// <param name="Text">The same as plain text, to be searched.</param>
public sealed record GuidePage(string Slug, string Title, string Section, string Html, string Text)
{
    /// <summary>Where it is shown.</summary>
    public string Address => Slug.Length == 0 ? "/guide" : $"/guide/{Slug}";
}
