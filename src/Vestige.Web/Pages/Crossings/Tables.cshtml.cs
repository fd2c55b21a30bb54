using Microsoft.AspNetCore.Mvc;
using Vestige.Core.Schemas;
using Vestige.Engine.Commands;
using Vestige.Engine.Measuring;
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

    /// <summary>Rows at the source and on the target, counted lately; null where they could not be counted.</summary>
    public override IReadOnlyDictionary<TableName, (RowCount? Source, RowCount? Target)>? Counts => counts;

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
        var treating = Engine.TreatmentOf(Status.Definition);
        foreach (var table in listed)
        {
            counts[table.Source] = (
                await rowCounts.OfAsync(Status.Definition.Source, table.Source, null, cancellation),
                await SumAsync(treating.RowTargetsOf(table.Source), treating.SharedOf(table.Source), cancellation)
            );
        }

        return part == "live" ? Partial("Crossings/_Tables", this) : Page();
    }

    /// <summary>Rows of a table that is split are in several; null when one of them cannot be counted.</summary>
    private async Task<RowCount?> SumAsync(IReadOnlyList<TableName> tables, SharedRows? only, CancellationToken cancellation)
    {
        RowCount? sum = new(0);
        foreach (var table in tables)
        {
            sum += await rowCounts.OfAsync(Status.Definition.Target, table, only, cancellation);
        }

        return sum;
    }
}
