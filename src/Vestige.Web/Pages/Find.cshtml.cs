using Microsoft.AspNetCore.Mvc;
using Microsoft.AspNetCore.Mvc.RazorPages;
using Vestige.Engine.Commands;
using Vestige.Web.Connections;
using Vestige.Web.Guides;
using Vestige.Web.Views;

namespace Vestige.Web.Pages;

/// <summary>Finds crossings, tables, connections and pages by a part of their name, and pages of the guide by their words.</summary>
public class FindModel(CrossingEngine engine, ConnectionDirectory connections, GuideBook guide) : PageModel
{
    private const int Most = 30;
    private const int MostOfGuide = 5;

    private static readonly (string Name, string Address)[] Places =
    [
        ("Fleet", "/"),
        ("Connections", "/connections"),
        ("Crossings", "/crossings"),
        ("New crossing", "/crossings/new"),
        ("Events", "/events"),
        ("Alerts", "/alerts"),
        ("Trace", "/trace"),
        ("Bench", "/bench"),
        ("Guide", "/guide"),
    ];

    public string Wanted { get; private set; } = "";

    public IReadOnlyList<(string Name, string Kind, string Address)> Found { get; private set; } = [];

    public IActionResult OnGet(string? q)
    {
        Wanted = (q ?? "").Trim();
        Found =
            Wanted.Length == 0
                ? []
                :
                [
                    .. All()
                        .Where(item => item.Name.Contains(Wanted, StringComparison.OrdinalIgnoreCase))
                        .Take(Most)
                        .Concat(guide.Search(Wanted).Take(MostOfGuide).Select(match => (match.Page.Title, "guide", match.Page.Address))),
                ];
        return Request.Headers.ContainsKey("HX-Request") ? Partial("_Found", this) : Page();
    }

    private IEnumerable<(string Name, string Kind, string Address)> All()
    {
        var statuses = engine.Statuses;
        return Places
            .Select(place => (place.Name, "page", place.Address))
            .Concat(statuses.Select(status => (status.Name, "crossing", $"/crossings/{status.Name}")))
            .Concat(connections.All.Select(connection => (connection.Name, "connection", $"/connections/{connection.Name}")))
            .Concat(
                statuses.SelectMany(status =>
                    status.Tables.Select(table =>
                        (table.Source.ToString(), $"table in {status.Name}", Addresses.OfTable(status.Name, table.Source.ToString()))
                    )
                )
            );
    }
}
