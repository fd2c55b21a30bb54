using Microsoft.AspNetCore.Mvc;
using Vestige.Core.Schemas;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Web.Connections;

namespace Vestige.Web.Pages.Crossings;

/// <summary>What about each table of a crossing?</summary>
public class TablesModel(CrossingEngine engine, ConnectionDirectory connections, RowCounts rowCounts, TimeProvider clock)
    : CrossingPage(engine, connections, clock)
{
    public override string View => "tables";

    /// <summary>Rows at the source and at the target, counted a few seconds ago at most; null where it could not be counted.</summary>
    public IReadOnlyDictionary<TableName, (long? Here, long? There)> Counts { get; private set; } =
        new Dictionary<TableName, (long?, long?)>();

    public async Task<IActionResult> OnGetAsync(string name, string? part, CancellationToken cancellation)
    {
        if (!Find(name))
        {
            return NotFound();
        }

        var counts = new Dictionary<TableName, (long?, long?)>();
        var treating = Engine.TreatmentOf(Status.Definition);
        foreach (var table in Status.Tables)
        {
            counts[table.Source] = (
                await rowCounts.OfAsync(Status.Definition.Source, table.Source, null, cancellation),
                await SumAsync(treating.RowTargetsOf(table.Source), treating.SharedOf(table.Source), cancellation)
            );
        }

        Counts = counts;
        return part == "live" ? Partial("Crossings/_Tables", this) : Page();
    }

    /// <summary>Rows of a table that is split stand in several; null when one of them cannot be counted.</summary>
    private async Task<long?> SumAsync(IReadOnlyList<TableName> tables, SharedRows? only, CancellationToken cancellation)
    {
        long? sum = 0;
        foreach (var table in tables)
        {
            sum += await rowCounts.OfAsync(Status.Definition.Target, table, only, cancellation);
        }

        return sum;
    }
}
