using Microsoft.AspNetCore.Mvc;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Engine.Commands;
using Vestige.Engine.Measuring;
using Vestige.Web.Connections;
using Vestige.Web.Crossings;
using Vestige.Web.Views;

namespace Vestige.Web.Pages.Crossings;

/// <summary>Which tables are to be loaded again, and what does that mean for their rows and for the other tables?</summary>
public class ReloadModel(CrossingEngine engine, ConnectionDirectory connections, RowCounts rowCounts, TimeProvider clock)
    : CrossingPage(engine, connections, clock)
{
    /// <summary>At most this many tables are listed to choose from; others are found by name.</summary>
    public const int MostListed = 60;

    /// <summary>The rows of more target tables than these are not counted for a page.</summary>
    private const int MostCounted = 50;
    private const int NamesShown = 5;

    public override string View => "reload";

    /// <summary>The source's tables that are to be loaded again.</summary>
    public IReadOnlyList<TableName> Chosen { get; private set; } = [];

    /// <summary>Whether the whole crossing begins from the start.</summary>
    public bool IsAll { get; private set; }

    /// <summary>What was asked for and is no table of the crossing.</summary>
    public IReadOnlyList<string> Unknown { get; private set; } = [];

    /// <summary>Part of the name of the tables that are listed.</summary>
    public string Search { get; private set; } = "";

    /// <summary>The tables to choose from: held ones first.</summary>
    public IReadOnlyList<TableStatus> Listed { get; private set; } = [];

    /// <summary>What it means; null until tables are chosen.</summary>
    public ReloadPlan? Plan { get; private set; }

    /// <summary>The target tables, as they are shown.</summary>
    public string Targets { get; private set; } = "";

    /// <summary>The rows that they have now; null where that is not known.</summary>
    public RowCount? Rows { get; private set; }

    /// <summary>What is read again, and until when.</summary>
    public LogPicture Picture =>
        LogPicture.OfReload(
            Rows is { } rows && Engine.LoadRate(Status.Definition.Target) is { } rate ? TimeSpan.FromSeconds(rows.Rows / rate) : null,
            Plan?.OthersGoOn == true,
            IsAll ? Status.Tables.Count : Chosen.Count,
            !IsAll && Chosen.Count < Status.Tables.Count
        );

    /// <summary>Whether rows go before others come, so that the crossing's name is to be typed.</summary>
    public bool Deletes => Plan is { } plan && (IsAll || plan.Emptied.Count > 0);

    public string What =>
        IsAll
            ? $"all {Figures.Of(Status.Tables.Count, "table")}"
            : Figures.Listed([.. Chosen.Select(table => table.ToString())], NamesShown);

    public async Task<IActionResult> OnGetAsync(string name, string[] table, bool all, string? find, CancellationToken cancellation)
    {
        if (!Find(name))
        {
            return NotFound();
        }

        Choose(table, all);
        Search = find?.Trim() ?? "";
        Listed = TablesOf.Listed(Status, Search, MostListed);
        if (IsAll || Chosen.Count > 0)
        {
            await TellAsync(cancellation);
        }

        return Page();
    }

    public Task<IActionResult> OnPostAsync(
        string name,
        string[] table,
        bool all,
        bool undo,
        int? undoHours,
        string? typed,
        CancellationToken cancellation
    )
    {
        if (!Find(name))
        {
            return Task.FromResult<IActionResult>(NotFound());
        }

        Choose(table, all);
        var back = $"/crossings/{name}/reload?{TablesOf.QueryOf(table)}{(all ? "&all=true" : "")}";
        if (Unknown.Count > 0 || (!IsAll && Chosen.Count == 0))
        {
            TempData["Refused"] = "Nothing was done: choose tables of this crossing.";
            return Task.FromResult<IActionResult>(Redirect(back));
        }

        Plan = Engine.ReloadPlanOf(name, Chosen);
        var refused =
            Deletes && typed != name ? "the name typed is not the crossing's name."
            : undo && undoHours is null ? "say for how many hours the present tables can be restored, 1 to 720."
            : null;
        if (refused is not null)
        {
            TempData["Refused"] = $"Nothing was done: {refused}";
            return Task.FromResult<IActionResult>(Redirect(back));
        }

        var next = Chosen.Count > 0 ? $"/crossings/{name}/tables" : $"/crossings/{name}";
        return DoAsync(next, "The load begins.", () => Engine.ReloadAsync(name, Chosen, By, cancellation, undo ? undoHours : null));
    }

    private void Choose(string[] asked, bool all)
    {
        var (chosen, unknown) = TablesOf.Choose(Status, all ? [] : asked);
        (IsAll, Chosen, Unknown) = (all, [.. chosen.Select(one => one.Source)], unknown);
    }

    private async Task TellAsync(CancellationToken cancellation)
    {
        Plan = Engine.ReloadPlanOf(Status.Name, Chosen);
        var treating = Engine.TreatmentOf(Status.Definition);
        List<(TableName Target, SharedRows? Only)> targets =
        [
            .. Status
                .Tables.Where(one => IsAll || Chosen.Contains(one.Source))
                .SelectMany(one => treating.RowTargetsOf(one.Source).Select(target => (target, treating.SharedOf(one.Source)))),
        ];
        Targets = Figures.Listed([.. targets.Select(one => one.Target.ToString()).Distinct()], NamesShown);
        Rows = targets.Count <= MostCounted ? new RowCount(0) : null;
        foreach (var (target, only) in targets.Take(Rows is null ? 0 : MostCounted))
        {
            Rows += await rowCounts.OfAsync(new CountedRows(Status.Definition.Target, target, only), cancellation);
        }
    }
}
