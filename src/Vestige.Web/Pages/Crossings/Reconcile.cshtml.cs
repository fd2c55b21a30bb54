using Microsoft.AspNetCore.Mvc;
using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Engine.Reconciling;
using Vestige.Web.Connections;

namespace Vestige.Web.Pages.Crossings;

/// <summary>Whether both sides are equal: what was proved of each table, comparing now, and the rule for all the time.</summary>
public class ReconcileModel(CrossingEngine engine, ConnectionDirectory connections, TimeProvider clock)
    : CrossingPage(engine, connections, clock)
{
    /// <summary>So many comparisons and repairs are listed.</summary>
    public const int Listed = 20;

    public override string View => "reconcile";

    public IReadOnlyList<Reconciliation> Comparisons { get; private set; } = [];

    public IReadOnlyList<Repair> Repairs { get; private set; } = [];

    /// <summary>The comparison at work; null when none is.</summary>
    public Reconciliation? Running { get; private set; }

    /// <summary>The table at work, and the part of how many.</summary>
    public (TableName Table, int Part, int Of)? At { get; private set; }

    /// <summary>The table chosen in the form.</summary>
    [BindProperty(SupportsGet = true)]
    public string? Table { get; set; }

    public async Task<IActionResult> OnGetAsync(string name, string? part, CancellationToken cancellation)
    {
        if (!Find(name))
        {
            return NotFound();
        }

        Running = Engine.Reconcile.Running(name);
        At = Engine.Reconcile.At(name);
        Comparisons = [.. (await Engine.Reconcile.ListAsync(name, cancellation)).Take(Listed)];
        Repairs = [.. (await Engine.Reconcile.Repairs.ListAsync(name, cancellation)).Take(Listed)];
        return part == "live" ? Partial("Crossings/_Reconcile", this) : Page();
    }

    public async Task<IActionResult> OnPostCompareAsync(
        string name,
        string? table,
        string? what,
        string? from,
        string? before,
        int? sample,
        CancellationToken cancellation
    )
    {
        string? id = null;
        var answer = await DoAsync($"/crossings/{name}/reconcile", "Comparing. The crossing continues meanwhile.", async () =>
        {
            var scope = new ComparisonScope(
                TablesOf(table),
                what == "range" && !string.IsNullOrWhiteSpace(from) ? from.Trim() : null,
                what == "range" && !string.IsNullOrWhiteSpace(before) ? before.Trim() : null,
                what == "sample" ? sample ?? 0 : null,
                what == "changed"
            );
            id = await Engine.Reconcile.StartAsync(name, scope, By, cancellation);
        });
        return id is null ? answer : Redirect($"/crossings/{name}/reconcile/{id}");
    }

    public Task<IActionResult> OnPostCancelAsync(string name, CancellationToken cancellation) =>
        DoAsync($"/crossings/{name}/reconcile", "Given up. What was found stays.", () =>
            Engine.Reconcile.CancelAsync(name, By, cancellation)
        );

    public Task<IActionResult> OnPostRuleAsync(
        string name,
        bool always,
        double? hours,
        double? rows,
        double? share,
        string? cron,
        CancellationToken cancellation
    ) =>
        DoAsync($"/crossings/{name}/reconcile", "Saved.", () =>
            Engine.Reconcile.SetRuleAsync(
                name,
                always
                    ? new ReconcileRule(
                        hours * 3600,
                        rows,
                        share,
                        string.IsNullOrWhiteSpace(cron) ? null : cron.Trim(),
                        Status?.Definition.Reconcile?.Zone
                    )
                    : null,
                By,
                cancellation
            )
        );

    public Task<IActionResult> OnPostUndoAsync(string name, string id, CancellationToken cancellation) =>
        DoAsync($"/crossings/{name}/reconcile", "Taken back, as far as rows had not changed since.", async () =>
        {
            var repair = await Engine.Reconcile.Repairs.UndoAsync(name, id, By, cancellation);
            await Engine.Reconcile.CompareAgainAsync(name, repair, By, cancellation);
        });

    private static IReadOnlyList<TableName> TablesOf(string? table)
    {
        if (string.IsNullOrEmpty(table))
        {
            return [];
        }

        try
        {
            return [TableName.Parse(table)];
        }
        catch (FormatException exception)
        {
            throw new RequestRefusedException(exception.Message, exception) { Remedy = "Choose a table from the list." };
        }
    }
}
