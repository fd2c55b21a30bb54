using Microsoft.AspNetCore.Mvc;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Engine.Commands;
using Vestige.Web.Connections;
using Vestige.Web.Crossings;

namespace Vestige.Web.Pages.Crossings;

/// <summary>What will be deleted if one table, or all, are loaded again?</summary>
public class ReloadModel(CrossingEngine engine, ConnectionDirectory connections, RowCounts rowCounts, TimeProvider clock)
    : CrossingPage(engine, connections, clock)
{
    /// <summary>The rows of more target tables than these are not counted for a page.</summary>
    private const int MostCounted = 50;
    private const int TargetsShown = 5;

    public override string View => "reload";

    /// <summary>The source table that is to be loaded again; null for all.</summary>
    public TableName? Chosen { get; private set; }

    /// <summary>What was asked for and is no table of the crossing; null where there is no such thing.</summary>
    public string? Unknown { get; private set; }

    /// <summary>The target tables, as they are shown.</summary>
    public string Targets { get; private set; } = "";

    /// <summary>The rows that they have now; null where that is not known.</summary>
    public RowCount? Rows { get; private set; }

    public async Task<IActionResult> OnGetAsync(string name, string? table, CancellationToken cancellation)
    {
        if (!Find(name))
        {
            return NotFound();
        }

        Chosen = Status.Tables.FirstOrDefault(one => one.Source.ToString() == table)?.Source;
        Unknown = Chosen is null && !string.IsNullOrEmpty(table) ? table : null;
        var treating = Engine.TreatmentOf(Status.Definition);
        List<(TableName Target, SharedRows? Only)> targets =
        [
            .. Status
                .Tables.Where(one => Chosen is null || one.Source == Chosen)
                .SelectMany(one => treating.RowTargetsOf(one.Source).Select(target => (target, treating.SharedOf(one.Source)))),
        ];
        Targets = Figures.Listed([.. targets.Select(one => one.Target.ToString()).Distinct()], TargetsShown);
        Rows = targets.Count <= MostCounted ? new RowCount(0) : null;
        foreach (var (target, only) in targets.Take(Rows is null ? 0 : MostCounted))
        {
            Rows += await rowCounts.OfAsync(new CountedRows(Status.Definition.Target, target, only), cancellation);
        }

        return Page();
    }

    public Task<IActionResult> OnPostAsync(string name, string? table, string? typed, CancellationToken cancellation)
    {
        if (typed == name)
        {
            return DoAsync($"/crossings/{name}", "The load begins again.", () =>
                Engine.ReloadAsync(name, string.IsNullOrEmpty(table) ? [] : [TablesOf.Named(Engine.Status(name), table)], By, cancellation)
            );
        }

        TempData["Refused"] = "Nothing was done: the name typed is not the crossing's name.";
        var query = string.IsNullOrEmpty(table) ? "" : $"?table={Uri.EscapeDataString(table)}";
        return Task.FromResult<IActionResult>(Redirect($"/crossings/{name}/reload{query}"));
    }
}
