using Microsoft.AspNetCore.Mvc;
using Microsoft.AspNetCore.Mvc.RazorPages;
using Vestige.Engine.Commands;
using Vestige.Engine.Measuring;
using Vestige.Web.Crossings;
using Vestige.Web.Fleet;
using Vestige.Web.Views;

namespace Vestige.Web.Pages.Crossings;

/// <summary>All crossings by name, found by typing or by tag; several are steered at once.</summary>
public class IndexModel(CrossingEngine engine) : PageModel
{
    private const int PerPage = 50;

    public FleetQuery Query { get; private set; } = new();

    public FleetChoices Choices { get; private set; } = FleetChoices.Of(new(), "/crossings", []);

    public IReadOnlyList<CrossingStatus> Shown { get; private set; } = [];

    /// <summary>All there are.</summary>
    public int Count { get; private set; }

    /// <summary>How many match, on all pages.</summary>
    public int Matched { get; private set; }

    /// <summary>The last page.</summary>
    public int Last { get; private set; } = 1;

    public void OnGet()
    {
        var all = engine.Statuses;
        Query = FleetQuery.Of(Request.Query);
        Choices = FleetChoices.Of(Query, "/crossings", all);
        var page = Paging.Of(Query.Of(all), Query.Page, PerPage);
        (Count, Matched, Last, Shown) = (all.Count, page.Count, page.Last, page.Shown);
        Query = Query with { Page = page.Number };
    }

    /// <summary>Steers several at once: those that are named, or all that match, on whichever page.</summary>
    public async Task<IActionResult> OnPostAsync(string[] names, string action, bool all, CancellationToken cancellation)
    {
        var query = FleetQuery.Of(Request.Query);
        string[] chosen = all ? [.. query.Of(engine.Statuses).Select(status => status.Name)] : names;
        var outcomes = await new SteerSeveral(engine).DoAsync(chosen, action, Who.Of(HttpContext), cancellation);
        var done = outcomes.Count(outcome => outcome.Problem is null);
        TempData[done == outcomes.Count && done > 0 ? "Done" : "Refused"] =
            outcomes.Count == 0
                ? "No crossing is selected."
                : $"{SteerSeveral.Word(action)}: {done} of {outcomes.Count}. "
                    + string.Join(" ", outcomes.Where(outcome => outcome.Problem is not null).Take(5).Select(outcome => outcome.Problem));
        return Redirect(query.Address("/crossings"));
    }
}
