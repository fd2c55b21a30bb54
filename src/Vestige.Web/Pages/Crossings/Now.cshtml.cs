using Microsoft.AspNetCore.Mvc;
using Vestige.Engine.Commands;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Measuring;
using Vestige.Web.Connections;
using Vestige.Web.Crossings;
using Vestige.Web.Hosting;
using Vestige.Web.Measures;

namespace Vestige.Web.Pages.Crossings;

/// <summary>How far behind, where does the delay sit, will it clear?</summary>
public class NowModel(
    CrossingEngine engine,
    ConnectionDirectory connections,
    MeasureHistory history,
    ControlStore store,
    TimeProvider clock
) : CrossingPage(engine, connections, clock)
{
    private const int EventsShown = 5;
    private const int TablesShown = 12;
    private const int MarksShown = 60;
    private static readonly TimeSpan Week = TimeSpan.FromDays(7);

    /// <summary>The windows that can be chosen: minutes, and what they are called.</summary>
    public static IReadOnlyList<(int Minutes, string Words)> Windows { get; } =
    [(5, "5 min"), (15, "15 min"), (60, "1 h"), (1440, "24 h"), (10080, "7 d"), (43200, "30 d"), (129600, "90 d")];

    public override string View => "now";

    /// <summary>The worst of its tables; all are on their own page.</summary>
    public override IReadOnlyList<TableStatus> ListedTables => [.. new TableQuery().Of(Status.Tables).Take(TablesShown)];

    /// <summary>How good its forecasts were; null when none was held against the outcome yet.</summary>
    public int Minutes { get; private set; } = 5;

    public IReadOnlyList<MeasurePoint> Points { get; private set; } = [];

    /// <summary>The same window a week ago; empty where nothing is kept of it, or the window is itself as long.</summary>
    public IReadOnlyList<MeasurePoint> WeekAgo { get; private set; } = [];

    public IReadOnlyList<(DateTimeOffset At, string Words, bool IsTrouble)> Marks { get; private set; } = [];

    public IReadOnlyList<DelayWindow> Delays { get; private set; } = [];

    public IReadOnlyList<CrossingEvent> Latest { get; private set; } = [];

    public async Task<IActionResult> OnGetAsync(string name, string? part, CancellationToken cancellation, int minutes = 5)
    {
        if (!Find(name))
        {
            return NotFound();
        }

        Minutes = Windows.Any(window => window.Minutes == minutes) ? minutes : 5;
        var chosen = TimeSpan.FromMinutes(Minutes);
        Points = await history.PointsAsync(name, chosen, TimeSpan.Zero, cancellation);
        WeekAgo = chosen < Week ? await history.PointsAsync(name, chosen, Week, cancellation) : [];
        Delays = await history.DelaysAsync(name, cancellation);
        Latest = [.. Engine.Events.Latest.Where(happened => happened.Crossing == name).Take(EventsShown)];
        Marks =
        [
            .. (await store.EventsAsync(name, MarksShown, cancellation))
                .Where(happened => happened.At > Now - chosen)
                .Select(happened => (happened.At, $"{happened.At.UtcDateTime:HH:mm:ss} {happened.Text}", happened.Kind != EventKind.Note)),
        ];
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

    public Task<IActionResult> OnPostRetryAsync(string name) => DoAsync($"/crossings/{name}", "Retrying now.", () =>
        {
            Engine.RetryNow(name);
            return Task.CompletedTask;
        });

    public Task<IActionResult> OnPostPauseAsync(string name, CancellationToken cancellation) =>
        DoAsync($"/crossings/{name}", "Paused. Its place is kept; the spool takes what the source commits meanwhile.", () =>
            Engine.PauseAsync(name, By, cancellation)
        );
}
