using Microsoft.AspNetCore.Mvc;
using Vestige.Core.Crossings;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Engine.Measuring;
using Vestige.Web.Connections;

namespace Vestige.Web.Pages.Crossings;

/// <summary>What exactly will be lost when this draft starts? It starts when its name is typed.</summary>
public class StartModel(CrossingEngine engine, ConnectionDirectory connections, TimeProvider clock)
    : CrossingPage(engine, connections, clock)
{
    public override string View => "start";

    public CrossingPlan? Plan { get; private set; }

    /// <summary>Why the plan cannot be shown; null when it can.</summary>
    public string? Failure { get; private set; }

    public async Task<IActionResult> OnGetAsync(string name, CancellationToken cancellation) =>
        !Find(name) ? NotFound()
        : Status.State != CrossingState.Draft ? Redirect($"/crossings/{name}")
        : await ShowAsync(cancellation);

    public async Task<IActionResult> OnPostAsync(string name, string? typedName, CancellationToken cancellation)
    {
        try
        {
            return await DoAsync($"/crossings/{name}", "Started.", () => Engine.RunAsync(name, By, cancellation, typedName));
        }
        catch (LossRefusedException)
        {
            TempData["Refused"] = string.IsNullOrEmpty(typedName)
                ? "Nothing was done: no name was typed."
                : $"Nothing was done: '{typedName}' is not the crossing's name.";
            return Redirect($"/crossings/{name}/start");
        }
    }

    private async Task<IActionResult> ShowAsync(CancellationToken cancellation)
    {
        try
        {
            Plan = await Engine.PlanAsync(Status.Definition, cancellation);
        }
        catch (PortException exception)
        {
            Failure = $"{exception.Message} {exception.Remedy}";
        }

        return Page();
    }
}
