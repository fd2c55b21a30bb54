using Microsoft.AspNetCore.Mvc;
using Microsoft.AspNetCore.Mvc.RazorPages;
using Vestige.Engine.Commands;
using Vestige.Engine.Measuring;
using Vestige.Web.Crossings;
using Vestige.Web.Views;

namespace Vestige.Web.Pages.Crossings;

/// <summary>All crossings by name, found by typing or by tag; several are steered at once.</summary>
public class IndexModel(CrossingEngine engine) : PageModel
{
    private const int Most = 200;

    public IReadOnlyList<CrossingStatus> Shown { get; private set; } = [];

    public int Count { get; private set; }

    public string Wanted { get; private set; } = "";

    public string Tag { get; private set; } = "";

    /// <summary>Every tag, by name.</summary>
    public IReadOnlyList<string> Tags { get; private set; } = [];

    public void OnGet(string? find, string? tag)
    {
        (Wanted, Tag) = (find ?? "", tag ?? "");
        var all = engine.Statuses;
        Count = all.Count;
        Tags = [.. all.SelectMany(status => status.Definition.Tags ?? []).Distinct().Order(StringComparer.Ordinal)];
        Shown = [.. all.Where(Matches).Take(Most)];
    }

    public async Task<IActionResult> OnPostAsync(string[] names, string action, string? tag, CancellationToken cancellation)
    {
        var outcomes = await new SteerSeveral(engine).DoAsync(names, action, Who.Of(HttpContext), cancellation);
        var done = outcomes.Count(outcome => outcome.Problem is null);
        TempData[done == outcomes.Count && done > 0 ? "Done" : "Refused"] =
            outcomes.Count == 0
                ? "No crossing is chosen."
                : $"{SteerSeveral.Word(action)}: {done} of {outcomes.Count}. "
                    + string.Join(" ", outcomes.Where(outcome => outcome.Problem is not null).Take(5).Select(outcome => outcome.Problem));
        return Redirect(string.IsNullOrEmpty(tag) ? "/crossings" : $"/crossings?tag={Uri.EscapeDataString(tag)}");
    }

    private bool Matches(CrossingStatus status) =>
        (Tag.Length == 0 || status.Definition.Tags?.Contains(Tag) == true)
        && (
            status.Name.Contains(Wanted, StringComparison.OrdinalIgnoreCase)
            || status.Definition.Source.Contains(Wanted, StringComparison.OrdinalIgnoreCase)
            || status.Definition.Target.Contains(Wanted, StringComparison.OrdinalIgnoreCase)
        );
}
