using Microsoft.AspNetCore.Mvc;
using Microsoft.AspNetCore.Mvc.RazorPages;
using Vestige.Core.Crossings;
using Vestige.Engine.Alerting;
using Vestige.Engine.Capturing;
using Vestige.Engine.Commands;
using Vestige.Engine.Measuring;
using Vestige.Engine.Workers;
using Vestige.Web.Views;

namespace Vestige.Web.Pages;

/// <summary>Is everything fresh and right, and what needs me?</summary>
public class IndexModel(CrossingEngine engine, TimeProvider clock) : PageModel
{
    private const int PerPage = 100;
    private const int RatePoints = 120;

    public IReadOnlyList<CrossingStatus> All { get; private set; } = [];

    public IReadOnlyList<CrossingStatus> Shown { get; private set; } = [];

    public IReadOnlyList<Alert> Needing { get; private set; } = [];

    public IReadOnlyList<CaptureStatus> Captures { get; private set; } = [];

    public IReadOnlyList<double> Rates { get; private set; } = [];

    public string? After { get; private set; }

    public string? Next { get; private set; }

    public CrossingEngine Engine => engine;

    public DateTimeOffset Now => clock.GetUtcNow();

    public IActionResult OnGet(string? after, string? part)
    {
        After = after;
        All = engine.Statuses;
        Needing = engine.Alerts!.Standing;
        var ordered = All.OrderBy(status => status.State == CrossingState.Draft)
            .ThenBy(status => status.Name, StringComparer.Ordinal)
            .ToList();
        var start = after is null ? 0 : ordered.FindIndex(status => status.Name == after) + 1;
        Shown = [.. ordered.Skip(start).Take(PerPage)];
        Next = start + PerPage < ordered.Count ? Shown[^1].Name : null;
        Captures = engine.CaptureStatuses;
        Rates = SumRates();
        return part == "live" ? Partial("_Fleet", this) : Page();
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
