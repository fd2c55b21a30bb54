using Microsoft.AspNetCore.Mvc;
using Microsoft.AspNetCore.Mvc.RazorPages;
using Vestige.Web.Guides;

namespace Vestige.Web.Pages;

/// <summary>How is it done? The guide, a page for each task.</summary>
public class GuideModel(GuideBook guide) : PageModel
{
    /// <summary>All pages, for the list at the side.</summary>
    public IReadOnlyList<GuidePage> Pages => guide.Pages;

    /// <summary>The page that is shown.</summary>
    public GuidePage Shown { get; private set; } = null!;

    /// <summary>The words that were looked for; empty where none were.</summary>
    public string Wanted { get; private set; } = "";

    /// <summary>The pages that have these words.</summary>
    public IReadOnlyList<GuideMatch> Found { get; private set; } = [];

    /// <summary>The pages before and after the one that is shown; null at the ends.</summary>
    public (GuidePage? Before, GuidePage? After) Neighbours { get; private set; }

    public IActionResult OnGet(string? slug, string? find)
    {
        if (guide.Find(slug) is not { } page)
        {
            return NotFound();
        }

        Shown = page;
        Wanted = find?.Trim() ?? "";
        Found = guide.Search(Wanted);
        var at = Pages.ToList().IndexOf(page);
        Neighbours = (at > 0 ? Pages[at - 1] : null, at + 1 < Pages.Count ? Pages[at + 1] : null);
        return Page();
    }
}
