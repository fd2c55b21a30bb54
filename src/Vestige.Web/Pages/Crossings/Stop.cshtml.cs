using Microsoft.AspNetCore.Mvc;
using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Web.Connections;
using Vestige.Web.Definitions;

namespace Vestige.Web.Pages.Crossings;

/// <summary>How can it be stopped, and what does each way cost?</summary>
public class StopModel(CrossingEngine engine, ConnectionDirectory connections, TimeProvider clock)
    : CrossingPage(engine, connections, clock)
{
    public override string View => "stop";

    public IActionResult OnGet(string name) => Find(name) ? Page() : NotFound();

    public Task<IActionResult> OnPostStopAsync(string name, StopMode manner, CancellationToken cancellation) =>
        DoAsync(
            $"/crossings/{name}",
            manner == StopMode.Drain ? "Stopping: applying what is captured first." : "Stopped. Its position is kept.",
            () => Engine.StopAsync(name, manner, By, cancellation)
        );

    /// <summary>At a mark: all that is committed as of now where nothing is typed, else a position or a time.</summary>
    public Task<IActionResult> OnPostStopAtAsync(string name, string? mark, CancellationToken cancellation) =>
        DoAsync($"/crossings/{name}", "Stopping at the mark.", () =>
            Engine.StopAtAsync(name, MarkOf(name, mark), By, cancellation)
        );

    /// <summary>Null where nothing is typed.</summary>
    private StopMark? MarkOf(string name, string? typed) =>
        PlaceText.Read(typed) switch
        {
            null => null,
            { Time: { } time } => new StopMark(Time: time),
            { Position: var text } => ParsePosition(name, text!) is { } position
                ? new StopMark(position)
                : throw new RequestRefusedException($"'{text}' is neither a position of the source nor a time.")
                {
                    Remedy = "Write a position as the source does, or a time such as 2026-11-25 13:00:00.",
                },
        };
}
