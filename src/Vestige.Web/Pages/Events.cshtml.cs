using Microsoft.AspNetCore.Mvc;
using Microsoft.AspNetCore.Mvc.RazorPages;
using Vestige.Core.Text;
using Vestige.Engine.Commands;
using Vestige.Web.Hosting;
using Vestige.Web.Views;

namespace Vestige.Web.Pages;

/// <summary>What happened, to whom, when, and who did it?</summary>
public class EventsModel(CrossingEngine engine, ControlStore store) : PageModel
{
    private const int PerPage = 100;

    [BindProperty(SupportsGet = true, Name = "")]
    public EventSearch Search { get; set; } = new();

    public IReadOnlyList<StoredEvent> Found { get; private set; } = [];

    /// <summary>The number of the event after which older ones stand; null when there are none.</summary>
    public long? Older { get; private set; }

    public IReadOnlyList<string> Crossings => [.. engine.Statuses.Select(status => status.Name)];

    public string Sentence =>
        Search.Problem is not null ? "A time cannot be read."
        : Found.Count == 0 ? "No matching events."
        : $"{(Older is null ? Figures.Of(Found.Count, "event") : $"The latest {Figures.Count(Found.Count)}")}, newest first.";

    public async Task OnGetAsync(CancellationToken cancellation)
    {
        if (Search.Problem is null)
        {
            var found = await store.EventsAsync(Search.Filter, Search.Before, PerPage + 1, cancellation);
            Found = [.. found.Take(PerPage)];
            Older = found.Count > PerPage ? Found[^1].Id : null;
        }
    }
}
