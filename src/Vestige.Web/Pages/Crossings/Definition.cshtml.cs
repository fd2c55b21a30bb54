using System.Text.Json;
using Microsoft.AspNetCore.Mvc;
using Vestige.Engine.Supervision;
using Vestige.Web.Api;
using Vestige.Web.Connections;

namespace Vestige.Web.Pages.Crossings;

/// <summary>What was said about a crossing and, for a draft, what a start would do.</summary>
public class DefinitionModel(CrossingEngine engine, ConnectionDirectory connections, TimeProvider clock) : CrossingPage(engine, connections, clock)
{
    private static readonly JsonSerializerOptions Indented = new(DefinitionJson.Options) { WriteIndented = true };

    public override string View => "definition";

    public string Document => JsonSerializer.Serialize(Status.Definition, Indented);

    /// <summary>Only for drafts.</summary>
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
