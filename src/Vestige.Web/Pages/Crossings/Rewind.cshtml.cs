using Microsoft.AspNetCore.Mvc;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Engine.Measuring;
using Vestige.Engine.Rewinding;
using Vestige.Web.Connections;
using Vestige.Web.Crossings;
using Vestige.Web.Definitions;
using Vestige.Web.Views;

namespace Vestige.Web.Pages.Crossings;

/// <summary>Which changes are applied again, and what does that do?</summary>
public class RewindModel(CrossingEngine engine, ConnectionDirectory connections, TimeProvider clock)
    : CrossingPage(engine, connections, clock)
{
    private const int NamesShown = 5;

    public override string View => "tables";

    /// <summary>The source's tables whose changes are applied again.</summary>
    public IReadOnlyList<TableName> Chosen { get; private set; } = [];

    /// <summary>What was asked for and is no table of the crossing.</summary>
    public IReadOnlyList<string> Unknown { get; private set; } = [];

    /// <summary>Part of the name of the tables that are listed.</summary>
    public string Search { get; private set; } = "";

    /// <summary>The tables to choose from: those that are chosen first.</summary>
    public IReadOnlyList<TableStatus> Listed { get; private set; } = [];

    /// <summary>A time or a position, as it was typed.</summary>
    public string Since { get; private set; } = "";

    /// <summary>Since when every change is held; null where it is not.</summary>
    public (LogPosition After, DateTimeOffset? Time)? HeldSince { get; private set; }

    /// <summary>What it would do; null until that is known.</summary>
    public RewindPlan? Plan { get; private set; }

    /// <summary>Of the plan; null where there is none, or the log is not one piece.</summary>
    public LogPicture? Picture =>
        Plan is { } plan && HeldSince is { } held && Status.AppliedPosition is { } applied
            ? LogPicture.OfRewind(LogPosition.Min(held.After, plan.From), plan.From, applied, Since, Chosen.Count)
            : null;

    /// <summary>What is being applied again now; null where nothing is.</summary>
    public Rewind? Pending { get; private set; }

    /// <summary>Why it cannot be done; null where it can.</summary>
    public string? Problem { get; private set; }

    /// <summary>Whether all that was chosen can be applied again.</summary>
    public bool IsPossible => Pending is null && Plan is { } plan && plan.Tables.All(table => table.Problem is null);

    /// <summary>The tables of a request, as they are shown.</summary>
    public static string NamesOf(Rewind rewind)
    {
        ArgumentNullException.ThrowIfNull(rewind);
        return Figures.Listed([.. rewind.Tables.Select(table => table.ToString())], NamesShown);
    }

    public async Task<IActionResult> OnGetAsync(string name, string[] table, string? since, string? find, CancellationToken cancellation)
    {
        if (!Find(name))
        {
            return NotFound();
        }

        Take(table, since);
        Search = find?.Trim() ?? "";
        Listed = TablesOf.Listed(Status, Chosen, Search, ReloadModel.MostListed);
        await LookAsync(cancellation);
        return Page();
    }

    public async Task<IActionResult> OnPostAsync(
        string name,
        string[] table,
        string? since,
        string? stop,
        CancellationToken cancellation
    )
    {
        if (!Find(name))
        {
            return NotFound();
        }

        var here = $"/crossings/{name}/rewind";
        if (stop is not null)
        {
            return await DoAsync(here, "Stopped.", () => Engine.Rewinds.StopAsync(name, By, cancellation));
        }

        Take(table, since);
        if (Unknown.Count > 0 || Chosen.Count == 0 || PlaceText.Read(Since) is not { } place)
        {
            TempData["Refused"] = "Nothing was done: choose tables of this crossing and a time.";
            return Redirect($"{here}?{TablesOf.QueryOf(table)}&since={Uri.EscapeDataString(Since)}");
        }

        return await DoAsync(
            here,
            "Changes are applied again. An event says when that is done.",
            () => Engine.Rewinds.AskAsync(name, place, Chosen, By, cancellation)
        );
    }

    private void Take(string[] table, string? since)
    {
        var (chosen, unknown) = TablesOf.Choose(Status, table);
        (Chosen, Unknown) = ([.. chosen.Select(one => one.Source)], unknown);
        Since = since?.Trim() ?? "";
    }

    private async Task LookAsync(CancellationToken cancellation)
    {
        Pending = Engine.Rewinds.PendingOf(Status.Name);
        try
        {
            var tables = Chosen.Count > 0 ? Chosen : [.. Status.Tables.Select(one => one.Source)];
            HeldSince = await Engine.Positions.HeldSinceAsync(Status.Definition.Source, tables, cancellation);
            Plan =
                Chosen.Count > 0 && PlaceText.Read(Since) is { } place
                    ? await Engine.Rewinds.PlanAsync(Status.Name, place, Chosen, cancellation)
                    : null;
        }
        catch (RequestRefusedException exception)
        {
            Problem = $"{exception.Message} {exception.Remedy}";
        }
        catch (PortException exception)
        {
            Problem = $"{exception.Message} {exception.Remedy}";
        }
    }
}
