using System.Globalization;
using Microsoft.AspNetCore.Mvc;
using Vestige.Core.Crossings;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Web.Connections;

namespace Vestige.Web.Pages.Crossings;

/// <summary>When does it run, when is nothing applied, and how fast at most?</summary>
public class PaceModel(CrossingEngine engine, ConnectionDirectory connections, TimeProvider clock)
    : CrossingPage(engine, connections, clock)
{
    /// <summary>So many windows can be typed on the page; more by file.</summary>
    public const int Windows = 3;

    private static readonly Dictionary<string, DayOfWeek> DayNames = Enum.GetValues<DayOfWeek>()
        .ToDictionary(day => day.ToString()[..3], StringComparer.OrdinalIgnoreCase);

    public override string View => "pace";

    public IActionResult OnGet(string name) => Find(name) ? Page() : NotFound();

    public Task<IActionResult> OnPostScheduleAsync(
        string name,
        string runs,
        string? cron,
        double? seconds,
        string? zone,
        CancellationToken cancellation
    ) =>
        PaceAsync(
            name,
            definition =>
                definition with
                {
                    Schedule = runs switch
                    {
                        "cron" => new RunSchedule(Cron: (cron ?? "").Trim(), Zone: ZoneOf(zone)),
                        "every" => new RunSchedule(EverySeconds: seconds ?? 0),
                        _ => null,
                    },
                },
            cancellation
        );

    public Task<IActionResult> OnPostLimitsAsync(
        string name,
        double? perSecond,
        double? loadLag,
        CancellationToken cancellation
    ) =>
        PaceAsync(
            name,
            definition =>
                definition with
                {
                    ChangesPerSecond = perSecond,
                    LoadLagSeconds = loadLag,
                    Rest = WindowsTyped() is { Count: > 0 } windows ? windows : null,
                },
            cancellation
        );

    public Task<IActionResult> OnPostTagsAsync(string name, string? tags, CancellationToken cancellation) =>
        PaceAsync(
            name,
            definition =>
                definition with
                {
                    Tags = (tags ?? "")
                        .Split([',', ' '], StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries)
                        .Distinct()
                        .ToList()
                        is { Count: > 0 } words
                        ? words
                        : null,
                },
            cancellation
        );

    /// <summary>The days of a window as they are typed.</summary>
    public static string DaysOf(RestWindow? window) =>
        window?.Days is { Count: > 0 } days ? string.Join(", ", days.Select(day => day.ToString()[..3])) : "";

    private Task<IActionResult> PaceAsync(
        string name,
        Func<CrossingDefinition, CrossingDefinition> change,
        CancellationToken cancellation
    ) => DoAsync($"/crossings/{name}/pace", "In force.", () => Engine.PaceAsync(name, change, By, cancellation));

    private List<RestWindow> WindowsTyped()
    {
        var windows = new List<RestWindow>();
        for (var i = 0; i < Windows; i++)
        {
            var (from, to) = (Request.Form[$"from-{i}"].ToString(), Request.Form[$"to-{i}"].ToString());
            if (from.Length + to.Length > 0)
            {
                windows.Add(
                    new RestWindow(
                        TimeOf(from),
                        TimeOf(to),
                        DaysTyped(Request.Form[$"days-{i}"].ToString()),
                        ZoneOf(Request.Form[$"zone-{i}"])
                    )
                );
            }
        }

        return windows;
    }

    private static List<DayOfWeek>? DaysTyped(string text)
    {
        var words = text.Split([',', ' '], StringSplitOptions.RemoveEmptyEntries);
        return words.Length == 0
            ? null
            :
            [
                .. words.Select(word =>
                    word.Length >= 3 && DayNames.TryGetValue(word[..3], out var day)
                        ? day
                        : throw new RequestRefusedException($"'{word}' is not a day.") { Remedy = "Write days as Mon, Tue, Wed." }
                ),
            ];
    }

    private static TimeOnly TimeOf(string text) =>
        TimeOnly.TryParse(text, CultureInfo.InvariantCulture, out var time)
            ? time
            : throw new RequestRefusedException($"'{text}' is not a time of day.") { Remedy = "Write it as 08:30." };

    private static string ZoneOf(string? zone) => string.IsNullOrWhiteSpace(zone) ? "UTC" : zone.Trim();
}
