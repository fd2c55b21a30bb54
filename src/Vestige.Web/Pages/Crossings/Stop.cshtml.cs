using Microsoft.AspNetCore.Mvc;
using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Web.Connections;
using Vestige.Web.Crossings;
using Vestige.Web.Definitions;

namespace Vestige.Web.Pages.Crossings;

/// <summary>Stopping in three manners, loading again, removing: each says what it costs.</summary>
public class StopModel(CrossingEngine engine, ConnectionDirectory connections, TimeProvider clock)
    : CrossingPage(engine, connections, clock)
{
    public override string View => "stop";

    public bool Runs =>
        Status.State is CrossingState.Checking or CrossingState.Loading or CrossingState.CatchingUp or CrossingState.Following;

    /// <summary>The table that is to be loaded again, where one was chosen before; null for none.</summary>
    public string? Wanted { get; private set; }

    public IActionResult OnGet(string name, string? table)
    {
        Wanted = table;
        return Find(name) ? Page() : NotFound();
    }

    public Task<IActionResult> OnPostStopAsync(string name, StopMode manner, CancellationToken cancellation) =>
        DoAsync(
            $"/crossings/{name}",
            manner == StopMode.Drain ? "It stops when all that is captured now is applied." : "Stopped. Its place is kept.",
            () => Engine.StopAsync(name, manner, By, cancellation)
        );

    /// <summary>At a mark: all that is committed as of now where nothing is typed, else a position or a time.</summary>
    public Task<IActionResult> OnPostStopAtAsync(string name, string? mark, CancellationToken cancellation) =>
        DoAsync($"/crossings/{name}", "It goes on to the mark and stops there.", () =>
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

    public Task<IActionResult> OnPostReloadAsync(string name, string? table, string? typed, CancellationToken cancellation) =>
        typed != name
            ? RefuseAsync(name, "Nothing was done: the name typed is not the crossing's name.")
            : DoAsync($"/crossings/{name}", "The load begins again.", () =>
                Engine.ReloadAsync(name, string.IsNullOrEmpty(table) ? [] : [TablesOf.Named(Engine.Status(name), table)], By, cancellation)
            );

    public Task<IActionResult> OnPostRemoveAsync(string name, string? typed, CancellationToken cancellation) =>
        typed != name
            ? RefuseAsync(name, "Nothing was done: the name typed is not the crossing's name.")
            : DoAsync("/crossings", $"{name} is removed. The rows on the target stay.", () => Engine.RemoveAsync(name, By, cancellation));

    private Task<IActionResult> RefuseAsync(string name, string why)
    {
        TempData["Refused"] = why;
        return Task.FromResult<IActionResult>(Redirect($"/crossings/{name}/stop"));
    }
}
