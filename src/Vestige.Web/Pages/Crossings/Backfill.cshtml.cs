using Microsoft.AspNetCore.Mvc;
using Vestige.Core.Schemas;
using Vestige.Engine.Backfilling;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Web.Connections;
using Vestige.Web.Crossings;

namespace Vestige.Web.Pages.Crossings;

/// <summary>Which rows or columns of a table are written as the source has them?</summary>
public class BackfillModel(CrossingEngine engine, ConnectionDirectory connections, TimeProvider clock)
    : CrossingPage(engine, connections, clock)
{
    public override string View => "tables";

    /// <summary>The source's table; null where the crossing has none of that name.</summary>
    public TableName? Table { get; private set; }

    /// <summary>The backfill that is running; null when none is.</summary>
    public Backfill? Running { get; private set; }

    public IActionResult OnGet(string name, string? table)
    {
        if (!Find(name))
        {
            return NotFound();
        }

        Running = Engine.Reconcile.Backfills.Running(name);
        Table =
            TablesOf.Choose(Status, [table ?? ""]).Chosen is [var chosen] ? chosen.Source
            : table is null ? Running?.Table
            : null;
        return Table is null && table is not null ? NotFound() : Page();
    }

    public async Task<IActionResult> OnPostAsync(
        string name,
        string? table,
        string? columns,
        string? from,
        string? before,
        string? extra,
        string? stop,
        CancellationToken cancellation
    )
    {
        if (!Find(name))
        {
            return NotFound();
        }

        var here = $"/crossings/{name}/backfill?table={Uri.EscapeDataString(table ?? "")}";
        if (stop is not null)
        {
            return await DoAsync(here, "Stopped.", () => Engine.Reconcile.Backfills.StopAsync(name));
        }

        return await DoAsync(
            here,
            "The backfill has begun. An event says when it is done.",
            () =>
                Engine.Reconcile.Backfills.StartAsync(
                    new Backfill(
                        name,
                        TablesOf.Named(Status, table ?? ""),
                        TextOf(from),
                        TextOf(before),
                        [.. (columns ?? "").Split(',', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries)],
                        By,
                        default
                    )
                    {
                        DeletesExtra = extra is not null,
                    },
                    cancellation
                )
        );
    }

    private static string? TextOf(string? typed) => string.IsNullOrWhiteSpace(typed) ? null : typed.Trim();
}
