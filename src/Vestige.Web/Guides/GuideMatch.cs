namespace Vestige.Web.Guides;

/// <summary>A page of the guide in which all words that were looked for occur.</summary>
/// <param name="Page">The page.</param>
/// <param name="Excerpt">Some text around the first of the words.</param>
public sealed record GuideMatch(GuidePage Page, string Excerpt);
