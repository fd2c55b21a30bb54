using Microsoft.AspNetCore.Mvc;
using Microsoft.AspNetCore.Mvc.RazorPages;
using Vestige.Core.Crossings;
using Vestige.Engine.Alerting;
using Vestige.Engine.Capturing;
using Vestige.Engine.Commands;
using Vestige.Engine.Events;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;
using Vestige.Web.Connections;
using Vestige.Web.Fleet;
using Vestige.Web.Views;

namespace Vestige.Web.Pages;

/// <summary>Is everything fresh and right, and what needs me?</summary>
public class IndexModel(CrossingEngine engine, ConnectionDirectory connections, TimeProvider clock) : PageModel
{
    /// <summary>More than these are listed in compact rows.</summary>
    private const int MostRoomy = 12;

    /// <summary>More than these are not unfolded.</summary>
    private const int MostUnfolded = 6;
    private const int PerPage = 40;
    private const string WelcomedCookie = "vestige-welcomed";
    private const int RatePoints = 120;
    private const int SourcesShown = 6;
    private static readonly TimeSpan Hour = TimeSpan.FromHours(1);

    /// <summary>Whether only what changes is asked for.</summary>
    public bool IsLive { get; private set; }

    public IReadOnlyList<CrossingStatus> All { get; private set; } = [];

    public FleetQuery Query { get; private set; } = new();

    public FleetChoices Choices { get; private set; } = FleetChoices.Of(new(), "/", []);

    /// <summary>How many match, on all pages.</summary>
    public int Matched { get; private set; }

    /// <summary>Drafts that match and are not listed, since nobody asked for drafts.</summary>
    public int DraftsFolded { get; private set; }

    public IReadOnlyList<CrossingStatus> Shown { get; private set; } = [];

    /// <summary>Whether there are so many that each gets one short row.</summary>
    public bool IsCompact => Matched > MostRoomy;

    /// <summary>Whether there are so few that each shows its last hour.</summary>
    public bool IsUnfolded => Shown.Count <= MostUnfolded && !IsCompact;

    /// <summary>Whether there are so many that finding one needs help.</summary>
    public bool IsLarge => All.Count > MostUnfolded;

    public IReadOnlyList<Alert> Needing { get; private set; } = [];

    /// <summary>The sources' logs, the fullest first.</summary>
    public IReadOnlyList<CaptureStatus> Captures { get; private set; } = [];

    /// <summary>Sources that are not shown.</summary>
    public int MoreCaptures { get; private set; }

    public IReadOnlyList<double> Rates { get; private set; } = [];

    /// <summary>The page before and the one after; null where there is none.</summary>
    public (FleetQuery? Before, FleetQuery? After) Neighbours { get; private set; }

    public CrossingEngine Engine => engine;

    /// <summary>Whether the first steps are shown; until they are hidden.</summary>
    public bool IsWelcome => Request.Cookies[WelcomedCookie] is null;

    /// <summary>The crossing and the bench to try first; null where there is none of either.</summary>
    public (string Crossing, string Bench)? FirstTry =>
        All.FirstOrDefault(status => status.State == CrossingState.Following && HasBench(status.Definition.Source)) is { } status
            ? (status.Name, status.Definition.Source)
            : null;

    public DateTimeOffset Now => clock.GetUtcNow();

    /// <summary>Hides the first steps.</summary>
    public IActionResult OnPostHide()
    {
        BrowserChoice.Keep(Response, WelcomedCookie, "yes");
        return Redirect("/");
    }

    private bool HasBench(string connection) =>
        connections.Find(connection) is { } found && connections.KindOf(found.Kind)?.Can.Contains(Capability.Bench) == true;

    /// <summary>The lag of its last hour, for a row that is unfolded.</summary>
    public IReadOnlyList<MeasurePoint> LastHour(CrossingStatus status)
    {
        ArgumentNullException.ThrowIfNull(status);
        return engine.Meter(status.Name)?.PointsSince(Now - Hour) ?? [];
    }

    /// <summary>What happened last; null where nothing is remembered.</summary>
    public CrossingEvent? Latest(CrossingStatus status)
    {
        ArgumentNullException.ThrowIfNull(status);
        return engine.Events.Latest.FirstOrDefault(happened => happened.Crossing == status.Name);
    }

    public IActionResult OnGet(string? part)
    {
        IsLive = part == "live";
        All = engine.Statuses;
        Needing = engine.Alerts!.Standing;
        Query = FleetQuery.Of(Request.Query);
        Choices = FleetChoices.Of(Query, "/", All);
        var found = Query.Of(All);
        var started =
            Query.Word.Length > 0 || found.Count <= MostRoomy ? found : [.. found.Where(status => status.State != CrossingState.Draft)];
        DraftsFolded = started.Count == 0 ? 0 : found.Count - started.Count;
        Page(started.Count == 0 ? found : started);
        var captures = engine
            .CaptureStatuses.OrderByDescending(capture => (double)capture.SpoolBytes / capture.SpoolBudget)
            .ThenByDescending(capture => capture.LogLimit is { } limit ? (double)capture.LogBytes / limit : 0)
            .ToList();
        (Captures, MoreCaptures) = ([.. captures.Take(SourcesShown)], Math.Max(0, captures.Count - SourcesShown));
        Rates = SumRates();
        return IsLive ? Partial("_Fleet", this) : Page();
    }

    private void Page(IReadOnlyList<CrossingStatus> found)
    {
        Matched = found.Count;
        var perPage = IsCompact ? PerPage : MostRoomy;
        var page = Paging.Of(found, Query.Page, perPage);
        Shown = page.Shown;
        Query = Query with { Page = page.Number };
        Neighbours = (
            page.Number > 1 ? Query with { Page = page.Number - 1 } : null,
            page.Number < page.Last ? Query with { Page = page.Number + 1 } : null
        );
    }

    /// <summary>Changes applied per second, summed over the crossings of the page.</summary>
    private List<double> SumRates()
    {
        var since = clock.GetUtcNow() - TimeSpan.FromSeconds(RatePoints + 1);
        var sums = new SortedDictionary<long, double>();
        foreach (var point in Shown.SelectMany(status => engine.Meter(status.Name)?.PointsSince(since) ?? []))
        {
            var second = point.At.ToUnixTimeSeconds();
            sums[second] = sums.GetValueOrDefault(second) + point.Applied;
        }

        return [.. sums.Values];
    }
}
