using Microsoft.AspNetCore.Mvc.RazorPages;
using Vestige.Engine.Measuring;
using Vestige.Engine.Supervision;

namespace Vestige.Web.Pages.Crossings;

/// <summary>All crossings by name, found by typing.</summary>
public class IndexModel(CrossingEngine engine) : PageModel
{
    private const int Most = 200;

    public IReadOnlyList<CrossingStatus> Shown { get; private set; } = [];

    public int Count { get; private set; }

    public string Wanted { get; private set; } = "";

    public void OnGet(string? find)
    {
        Wanted = find ?? "";
        var all = engine.Statuses;
        Count = all.Count;
        Shown = [.. all.Where(status => status.Name.Contains(Wanted, StringComparison.OrdinalIgnoreCase)
            || status.Definition.Source.Contains(Wanted, StringComparison.OrdinalIgnoreCase)
            || status.Definition.Target.Contains(Wanted, StringComparison.OrdinalIgnoreCase)).Take(Most)];
    }
}
