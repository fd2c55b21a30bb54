using Microsoft.AspNetCore.Mvc;
using Vestige.Engine.Supervision;
using Vestige.Web.Api;
using Vestige.Web.Connections;
using Vestige.Web.Definitions;

namespace Vestige.Web.Pages.Crossings;

/// <summary>What was said about a crossing and, for a draft, what a start would do.</summary>
public class DefinitionModel(CrossingEngine engine, ConnectionDirectory connections, TimeProvider clock) : CrossingPage(engine, connections, clock)
{
    public override string View => "definition";

    public string Document => DefinitionYaml.Write(Status.Definition);

    /// <summary>Only for drafts: those alone can be changed.</summary>
    public CrossingPlan? Plan { get; private set; }

    public async Task<IActionResult> OnGetAsync(string name, CancellationToken cancellation)
    {
        if (!Find(name))
        {
            return NotFound();
        }

        if (Status.State == Vestige.Core.Crossings.CrossingState.Draft)
        {
            Plan = await Engine.PlanAsync(Status.Definition, cancellation);
        }

        return Page();
    }
}
