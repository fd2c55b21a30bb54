using Microsoft.AspNetCore.Mvc;
using Vestige.Core.Reconciling;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Engine.Reconciling;
using Vestige.Web.Connections;
using Vestige.Web.Reconciling;

namespace Vestige.Web.Pages.Crossings;

/// <summary>What will a repair write, and what will it leave? Nothing is written before this was shown.</summary>
public class RepairModel(CrossingEngine engine, ConnectionDirectory connections, TimeProvider clock)
    : CrossingPage(engine, connections, clock)
{
    /// <summary>The most rows that are shown one by one.</summary>
    public const int ShownAtMost = 50;

    public override string View => "reconcile";

    public Reconciliation Found { get; private set; } = null!;

    /// <summary>The rows that were chosen, of tables that can be repaired row by row.</summary>
    public IReadOnlyList<DifferenceView> Rows { get; private set; } = [];

    /// <summary>Tables with chosen rows that can only be reloaded.</summary>
    public IReadOnlyList<TableFinding> NotByRow { get; private set; } = [];

    /// <summary>Tables of which more rows differ than are listed.</summary>
    public IReadOnlyList<TableFinding> NotListed { get; private set; } = [];

    /// <summary>Where the page is, with what was chosen.</summary>
    public string Address => $"{Request.Path}{Request.QueryString}";

    /// <summary>How many of the rows differ like that.</summary>
    public int Count(DifferenceKind kind) => Rows.Count(row => row.Row.Kind == kind);

    /// <summary>The statement for one row, with marks where its values go.</summary>
    public string StatementFor(DifferenceView row)
    {
        ArgumentNullException.ThrowIfNull(row);
        return Engine.Reconcile.Repairs.StatementFor(Status.Name, row.Table, row.Row);
    }

    /// <summary>The rows that are asked for.</summary>
    [BindProperty(SupportsGet = true, Name = "")]
    public RepairSelection Selection { get; set; } = new();

    public async Task<IActionResult> OnGetAsync(string name, string id, CancellationToken cancellation) =>
        await ChooseAsync(name, id, cancellation) ? Page() : NotFound();

    public async Task<IActionResult> OnPostAsync(string name, string id, bool delete, string? typed, CancellationToken cancellation)
    {
        if (!await ChooseAsync(name, id, cancellation))
        {
            return NotFound();
        }

        if (delete && typed != name)
        {
            TempData["Refused"] = $"Rows that only the target has are deleted only when you type the name {name}. Nothing was written.";
            return Redirect(Address);
        }

        var next = $"/crossings/{name}/reconcile/{id}";
        var done = "";
        var result = await DoAsync(
            next,
            "",
            async () =>
            {
                HashSet<(TableName, int)> chosen = [.. Rows.Select(one => (one.Table.Into, one.Place))];
                var repair = await Engine.Reconcile.Repairs.RepairAsync(name, Found, chosen, delete, By, cancellation);
                done = Outcome(repair, delete ? 0 : Count(DifferenceKind.Extra));
                next = await Engine.Reconcile.CompareAgainAsync(name, repair, By, cancellation) is { } again
                    ? $"/crossings/{name}/reconcile/{again}"
                    : next;
            }
        );
        if (done.Length == 0)
        {
            return result;
        }

        TempData["Done"] = done;
        return Redirect(next);
    }

    /// <summary>What was written, and what was not with the reasons.</summary>
    private static string Outcome(Repair repair, int extra)
    {
        var left = repair
            .Rows.Where(row => row.Note is not null)
            .GroupBy(row => row.Note)
            .Select(rows => $"{Figures.Of(rows.Count(), "row")} not written: {rows.Key}.");
        var kept = extra > 0 ? $" {Figures.Of(extra, "row")} that only the target has left as {(extra == 1 ? "it is" : "they are")}." : "";
        return $"Repaired {Figures.Of(repair.Changed, "row")}. {string.Join(' ', left)}{kept} Comparing again.".Replace(
            "  ",
            " ",
            StringComparison.Ordinal
        );
    }

    private async Task<bool> ChooseAsync(string name, string id, CancellationToken cancellation)
    {
        if (!Find(name) || await Engine.Reconcile.FindAsync(name, id, cancellation) is not { } found)
        {
            return false;
        }

        Found = found;
        var chosen = found
            .Tables.SelectMany(one => one.Rows.Select((difference, place) => new DifferenceView(one, difference, place)))
            .Where(Selection.Takes)
            .ToList();
        Rows = [.. chosen.Where(one => one.Table.KeyPasses)];
        NotByRow = [.. chosen.Where(one => !one.Table.KeyPasses).Select(one => one.Table).Distinct()];
        NotListed = [.. chosen.Where(one => one.Table.NotListed).Select(one => one.Table).Distinct()];
        return true;
    }
}
