using Microsoft.AspNetCore.Mvc;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Measuring;
using Vestige.Engine.Supervision;
using Vestige.Web.Connections;

namespace Vestige.Web.Pages.Crossings;

/// <summary>How far behind, where does the delay sit, will it clear?</summary>
public class NowModel(CrossingEngine engine, ConnectionDirectory connections, TimeProvider clock) : CrossingPage(engine, connections, clock)
{
    private const int EventsShown = 5;

    public override string View => "now";

    public int Minutes { get; private set; } = 5;

    public IReadOnlyList<MeasurePoint> Points { get; private set; } = [];

    public IReadOnlyList<CrossingEvent> Latest { get; private set; } = [];

    public IActionResult OnGet(string name, string? part, int minutes = 5)
    {
        if (!Find(name))
        {
            return NotFound();
        }

        Minutes = minutes is 5 or 15 or 60 ? minutes : 5;
        Points = Engine.Meter(name)!.PointsSince(Now - TimeSpan.FromMinutes(Minutes));
        Latest = [.. Engine.Events.Latest.Where(happened => happened.Crossing == name).Take(EventsShown)];
        return part == "live" ? Partial("Crossings/_Now", this) : Page();
    }

    public async Task<IActionResult> OnPostStartAsync(string name, CancellationToken cancellation)
    {
        try
        {
            return await DoAsync($"/crossings/{name}", "Started.", () => Engine.RunAsync(name, By, cancellation));
        }
        catch (LossRefusedException)
        {
            return Redirect($"/crossings/{name}/start");
        }
    }

    public Task<IActionResult> OnPostKeepLogAsync(string name, CancellationToken cancellation) =>
        DoAsync($"/crossings/{name}", "The log is kept.", () => Engine.KeepLogAsync(name, By, cancellation));

    public Task<IActionResult> OnPostResumeAsync(string name, CancellationToken cancellation) =>
        DoAsync($"/crossings/{name}", "Resumed.", () => Engine.RunAsync(name, By, cancellation));

    public Task<IActionResult> OnPostPauseAsync(string name, CancellationToken cancellation) =>
        DoAsync($"/crossings/{name}", "Paused. Its place is kept; the spool takes what the source commits meanwhile.", () => Engine.PauseAsync(name, By, cancellation));
}
