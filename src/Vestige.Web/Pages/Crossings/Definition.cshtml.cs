using Microsoft.AspNetCore.Mvc;
using Vestige.Engine.Commands;
using Vestige.Web.Api;
using Vestige.Web.Connections;
using Vestige.Web.Definitions;
using Vestige.Web.Hosting;

namespace Vestige.Web.Pages.Crossings;

/// <summary>What was said about a crossing and, for a draft, what a start would do.</summary>
public class DefinitionModel(CrossingEngine engine, ConnectionDirectory connections, ControlStore store, TimeProvider clock)
    : CrossingPage(engine, connections, clock)
{
    public override string View => "definition";

    public string Document => DefinitionYaml.Write(Status.Definition);

    /// <summary>Newest first.</summary>
    public IReadOnlyList<DefinitionVersion> Versions { get; private set; } = [];

    /// <summary>The version that is looked at; null when none is.</summary>
    public DefinitionVersion? Chosen { get; private set; }

    /// <summary>Its lines against those of the version before.</summary>
    public IReadOnlyList<ComparedLine> Compared { get; private set; } = [];

    /// <summary>Only for drafts: those alone can be changed.</summary>
    public CrossingPlan? Plan { get; private set; }

    public async Task<IActionResult> OnGetAsync(string name, long? version, CancellationToken cancellation)
    {
        if (!Find(name))
        {
            return NotFound();
        }

        Versions = await store.VersionsAsync(name, cancellation);
        if (version is not null && !Choose(version.Value))
        {
            return NotFound();
        }

        if (Status.State == Vestige.Core.Crossings.CrossingState.Draft)
        {
            Plan = await Engine.PlanAsync(Status.Definition, cancellation);
        }

        return Page();
    }

    private bool Choose(long version)
    {
        Chosen = Versions.FirstOrDefault(candidate => candidate.Number == version);
        var before = Versions.FirstOrDefault(candidate => candidate.Number < version);
        Compared = Chosen is null || before is null ? [] : DefinitionComparison.Of(before.Definition, Chosen.Definition);
        return Chosen is not null;
    }
}
