using Microsoft.AspNetCore.Mvc;
using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;
using Vestige.Web.Api;
using Vestige.Web.Connections;
using Vestige.Web.Crossings;
using Vestige.Web.Definitions;

namespace Vestige.Web.Pages.Crossings;

/// <summary>What does it take to copy tables as they were at a time, and what would be copied?</summary>
public class AsOfModel(CrossingEngine engine, ConnectionDirectory connections, TimeProvider clock)
    : CrossingPage(engine, connections, clock)
{
    public override string View => "as-of";

    /// <summary>The source's tables to copy.</summary>
    public IReadOnlyList<TableName> Chosen { get; private set; } = [];

    /// <summary>What was asked for and is no table of the crossing.</summary>
    public IReadOnlyList<string> Unknown { get; private set; } = [];

    /// <summary>Part of the name of the tables that are listed.</summary>
    public string Search { get; private set; } = "";

    /// <summary>The tables to choose from: those that are chosen first.</summary>
    public IReadOnlyList<TableStatus> Listed { get; private set; } = [];

    /// <summary>A time or a position, as it was typed.</summary>
    public string At { get; private set; } = "";

    /// <summary>The connection that gets the rows.</summary>
    public string Target { get; private set; } = "";

    /// <summary>The schema there; empty for the names of this crossing.</summary>
    public string Into { get; private set; } = "";

    /// <summary>The name of the crossing that copies them.</summary>
    public string As { get; private set; } = "";

    /// <summary>Connections that can get the rows.</summary>
    public IReadOnlyList<string> Targets =>
        [.. Connections.Able(Capability.Target).Select(one => one.Name).Where(name => name != Status.Definition.Source)];

    /// <summary>Since when every change is held; null where it is not.</summary>
    public (LogPosition After, DateTimeOffset? Time)? HeldSince { get; private set; }

    /// <summary>What it would do; null until that is known.</summary>
    public CrossingPlan? Plan { get; private set; }

    /// <summary>What is wrong with what was given.</summary>
    public IReadOnlyList<string> Problems { get; private set; } = [];

    public async Task<IActionResult> OnGetAsync(
        string name,
        string[] table,
        string? at,
        string? target,
        string? into,
        string? find,
        CancellationToken cancellation
    )
    {
        if (!Find(name))
        {
            return NotFound();
        }

        Take(table, at, target, into);
        Search = find?.Trim() ?? "";
        Listed = TablesOf.Listed(Status, Chosen, Search, ReloadModel.MostListed);
        await LookAsync(cancellation);
        return Page();
    }

    public async Task<IActionResult> OnPostAsync(
        string name,
        string[] table,
        string? at,
        string? target,
        string? into,
        string? @as,
        CancellationToken cancellation
    )
    {
        if (!Find(name))
        {
            return NotFound();
        }

        Take(table, at, target, into);
        var back =
            $"/crossings/{name}/as-of?{TablesOf.QueryOf(table)}&at={Uri.EscapeDataString(At)}&target={Uri.EscapeDataString(Target)}"
            + $"&into={Uri.EscapeDataString(Into)}";
        if (Unknown.Count > 0 || Chosen.Count == 0 || PlaceText.Read(At) is not { } place)
        {
            TempData["Refused"] = "Nothing was done: choose tables of this crossing and a time.";
            return Redirect(back);
        }

        var definition = DefinitionOf(@as?.Trim() ?? "", place);
        if (CrossingApi.Check(definition, Connections) is [var problem, ..])
        {
            TempData["Refused"] = $"Nothing was done: {problem.Field}: {problem.Found}. {problem.Remedy}";
            return Redirect(back);
        }

        try
        {
            await AsOfCopies.StartAsync(Engine, definition, By, cancellation);
            TempData["Done"] = "The copy begins.";
            return Redirect($"/crossings/{definition.Name}");
        }
        catch (Exception exception) when (exception is PortException or RequestRefusedException or NotReadyException)
        {
            TempData["Refused"] = $"Nothing was done: {exception.Message} {(exception as RequestRefusedException)?.Remedy}";
            return Redirect(back);
        }
    }

    private void Take(string[] table, string? at, string? target, string? into)
    {
        var (chosen, unknown) = TablesOf.Choose(Status, table);
        (Chosen, Unknown) = ([.. chosen.Select(one => one.Source)], unknown);
        (At, Into) = (at?.Trim() ?? "", into?.Trim() ?? "");
        Target = target ?? Targets.OrderBy(one => one == Status.Definition.Target).FirstOrDefault() ?? "";
        As = AsOfCopies.FreeName(Engine, Status.Name, Now);
    }

    private CrossingDefinition DefinitionOf(string name, StartPlace place) =>
        Status.Definition.AsOf(name, Target, Chosen, place, Into.Length == 0 ? null : Into);

    private async Task LookAsync(CancellationToken cancellation)
    {
        try
        {
            var tables = Chosen.Count > 0 ? Chosen : [.. Status.Tables.Select(one => one.Source)];
            HeldSince = await Engine.Positions.HeldSinceAsync(Status.Definition.Source, tables, cancellation);
            if (Chosen.Count == 0 || PlaceText.Read(At) is not { } place)
            {
                return;
            }

            var definition = DefinitionOf(As, place);
            Problems =
            [
                .. CrossingApi.Check(definition, Connections).Select(problem => $"{problem.Field}: {problem.Found}. {problem.Remedy}"),
            ];
            Plan = Problems.Count == 0 ? await Engine.PlanAsync(definition, cancellation) : null;
        }
        catch (PortException exception)
        {
            Problems = [$"{exception.Message} {exception.Remedy}"];
        }
    }
}
