using Microsoft.AspNetCore.Mvc;
using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Engine.Measuring;
using Vestige.Web.Connections;
using Vestige.Web.Crossings;

namespace Vestige.Web.Pages.Crossings;

/// <summary>Which tables leave this crossing, and what becomes of their copies?</summary>
public class RemoveTablesModel(CrossingEngine engine, ConnectionDirectory connections, RowCounts rowCounts, TimeProvider clock)
    : CrossingPage(engine, connections, clock)
{
    private const int MostCounted = 50;
    private const int NamesShown = 5;

    public override string View => "tables";

    /// <summary>The source's tables that are to leave.</summary>
    public IReadOnlyList<TableName> Chosen { get; private set; } = [];

    /// <summary>What was asked for and is no table of the crossing.</summary>
    public IReadOnlyList<string> Unknown { get; private set; } = [];

    /// <summary>Part of the name of the tables that are listed.</summary>
    public string Search { get; private set; } = "";

    /// <summary>The tables to choose from: held ones first.</summary>
    public IReadOnlyList<TableStatus> Listed { get; private set; } = [];

    /// <summary>What it means; null until tables are chosen.</summary>
    public TableRemoval? Removal { get; private set; }

    /// <summary>The rows that the copies have now; null where that is not known.</summary>
    public RowCount? Rows { get; private set; }

    /// <summary>Why these tables cannot leave; null where they can.</summary>
    public string? Problem { get; private set; }

    public string What => Figures.Listed([.. Chosen.Select(table => table.ToString())], NamesShown);

    /// <summary>The target's tables, as they are shown.</summary>
    public string Copies => Figures.Listed([.. Removal!.Copies.Select(table => table.ToString())], NamesShown);

    public async Task<IActionResult> OnGetAsync(string name, string[] table, string? find, CancellationToken cancellation)
    {
        if (!Find(name))
        {
            return NotFound();
        }

        if (Status.State == CrossingState.Draft)
        {
            TempData["Refused"] = $"{name} is a draft: change its definition.";
            return Redirect($"/crossings/{name}/definition");
        }

        Choose(table);
        Search = find?.Trim() ?? "";
        Listed = TablesOf.Listed(Status, Search, ReloadModel.MostListed);
        if (Chosen.Count > 0)
        {
            await TellAsync(cancellation);
        }

        return Page();
    }

    public Task<IActionResult> OnPostAsync(
        string name,
        string[] table,
        string? copy,
        int? undoHours,
        string? typed,
        CancellationToken cancellation
    )
    {
        if (!Find(name))
        {
            return Task.FromResult<IActionResult>(NotFound());
        }

        Choose(table);
        var back = $"/crossings/{name}/remove-tables?{TablesOf.QueryOf(table)}";
        var refused =
            Unknown.Count > 0 || Chosen.Count == 0 ? "choose tables of this crossing."
            : copy is not ("keep" or "drop" or "undo") ? "choose what becomes of the tables on the target."
            : copy is "drop" or "undo" && typed != name ? "the name typed is not the crossing's name."
            : copy == "undo" && undoHours is null ? "say for how many hours they can be restored, 1 to 720."
            : null;
        if (refused is not null)
        {
            TempData["Refused"] = $"Nothing was done: {refused}";
            return Task.FromResult<IActionResult>(Redirect(back));
        }

        var (done, drops) = copy switch
        {
            "undo" => (
                $"Removed, and dropped on the target. They can be restored on the page of {Status.Definition.Target}.",
                new DroppedCopies(undoHours)
            ),
            "drop" => ("Removed, and dropped on the target.", new DroppedCopies()),
            _ => ("Removed. The copies stay on the target.", null),
        };
        return DoAsync($"/crossings/{name}/tables", done, () => Engine.Tables.RemoveAsync(name, Chosen, drops, By, cancellation));
    }

    private void Choose(string[] asked)
    {
        var (chosen, unknown) = TablesOf.Choose(Status, asked);
        (Chosen, Unknown) = ([.. chosen.Select(one => one.Source)], unknown);
    }

    private async Task TellAsync(CancellationToken cancellation)
    {
        try
        {
            Removal = Engine.Tables.RemovalOf(Status.Name, Chosen);
        }
        catch (RequestRefusedException exception)
        {
            Problem = $"{exception.Message} {exception.Remedy}";
            return;
        }

        Rows = Removal.Copies.Count <= MostCounted ? new RowCount(0) : null;
        foreach (var copy in Removal.Copies.Take(Rows is null ? 0 : MostCounted))
        {
            Rows += await rowCounts.OfAsync(new CountedRows(Status.Definition.Target, copy, null), cancellation);
        }
    }
}
