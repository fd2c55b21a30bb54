using Microsoft.AspNetCore.Mvc;
using Vestige.Core.Schemas;
using Vestige.Engine.Commands;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;
using Vestige.Web.Connections;
using Vestige.Web.Crossings;
using Vestige.Web.Views;

namespace Vestige.Web.Pages.Crossings;

/// <summary>What about each table of a crossing?</summary>
public class TablesModel(CrossingEngine engine, ConnectionDirectory connections, RowCounts rowCounts, TimeProvider clock)
    : CrossingPage(engine, connections, clock)
{
    public override string View => "tables";

    private const int PerPage = 40;

    /// <summary>What is listed.</summary>
    public TableQuery Query { get; private set; } = new();

    /// <summary>The tables of this page.</summary>
    public override IReadOnlyList<TableStatus> ListedTables => listed;

    /// <summary>How many match, on all pages.</summary>
    public int Matched { get; private set; }

    /// <summary>The last page.</summary>
    public int Last { get; private set; } = 1;

    /// <summary>Rows at the source and on the target, counted within the last minute; null where they could not be, or not yet.</summary>
    public override IReadOnlyDictionary<TableName, (RowCount? Source, RowCount? Target)>? Counts => counts;

    /// <summary>How many tables that this crossing has dropped on its target can be restored.</summary>
    public int Restorable { get; private set; }

    private IReadOnlyList<TableStatus> listed = [];
    private Dictionary<TableName, (RowCount? Source, RowCount? Target)> counts = [];

    public async Task<IActionResult> OnGetAsync(string name, string? part, CancellationToken cancellation)
    {
        if (!Find(name))
        {
            return NotFound();
        }

        if (part == "head")
        {
            return Partial("Crossings/_CrossingHead", this);
        }

        Query = TableQuery.Of(Request.Query);
        var page = Paging.Of(Query.Of(Status.Tables), Query.Page, PerPage);
        (Matched, Last, listed) = (page.Count, page.Last, page.Shown);
        Query = Query with { Page = page.Number };
        await CountAsync(cancellation);
        Restorable = part is null ? (await Engine.Undo.OfCrossingAsync(name, cancellation)).Sum(entry => entry.Tables.Count) : 0;
        return part == "live" ? Partial("Crossings/_Tables", this) : Page();
    }

    private async Task CountAsync(CancellationToken cancellation)
    {
        var treating = Engine.TreatmentOf(Status.Definition);
        List<CountedRows> asked = [];
        Dictionary<TableName, Range> targets = [];
        foreach (var table in listed)
        {
            asked.Add(new CountedRows(Status.Definition.Source, table.Source, null));
            var first = asked.Count;
            var only = treating.SharedOf(table.Source);
            asked.AddRange(treating.RowTargetsOf(table.Source).Select(target => new CountedRows(Status.Definition.Target, target, only)));
            targets[table.Source] = first..asked.Count;
        }

        var answers = await rowCounts.SoonAsync(asked, cancellation);
        counts = targets.ToDictionary(
            table => table.Key,
            table => (answers[table.Value.Start.Value - 1], Sum([.. answers.Take(table.Value)]))
        );
    }

    /// <summary>Rows of a table that is split are in several; null when one of them is not counted.</summary>
    private static RowCount? Sum(IReadOnlyList<RowCount?> parts) => parts.Aggregate((RowCount?)new RowCount(0), (sum, part) => sum + part);
}
