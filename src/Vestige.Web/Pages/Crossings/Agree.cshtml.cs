using Microsoft.AspNetCore.Mvc;
using Vestige.Core.SchemaVersions;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;
using Vestige.Web.Connections;
using Vestige.Web.Crossings;

namespace Vestige.Web.Pages.Crossings;

/// <summary>What was changed at the source waits for a person: what does agreeing do, and what would be lost?</summary>
public class AgreeModel(CrossingEngine engine, ConnectionDirectory connections, TimeProvider clock)
    : CrossingPage(engine, connections, clock)
{
    public override string View => "tables";

    /// <summary>The tables that continue.</summary>
    public IReadOnlyList<TableStatus> Chosen { get; private set; } = [];

    /// <summary>Tables that were asked for and cannot continue like that.</summary>
    public IReadOnlyList<string> Others { get; private set; } = [];

    /// <summary>What the target loses.</summary>
    public IReadOnlyList<LostByAgreeing> Lost { get; private set; } = [];

    /// <summary>Whether every table that is chosen can continue without its change.</summary>
    public bool MayLeaveOut { get; private set; }

    public async Task<IActionResult> OnGetAsync(string name, string[] table, CancellationToken cancellation)
    {
        if (!Find(name))
        {
            return NotFound();
        }

        Choose(table);
        MayLeaveOut = Chosen.Count > 0;
        foreach (var one in Chosen)
        {
            MayLeaveOut &= await Engine.Held.VersionAsync(name, one.Source, cancellation) is { MayBeLeftOut: true };
            Lost = [.. Lost, .. await LostOfAsync(one, cancellation)];
        }

        return Page();
    }

    public async Task<IActionResult> OnPostAsync(string name, string[] table, string? typed, CancellationToken cancellation)
    {
        if (!Find(name))
        {
            return NotFound();
        }

        Choose(table);
        var back = $"/crossings/{name}/agree?{TablesOf.QueryOf(table)}";
        if (Others.Count > 0 || Chosen.Count == 0)
        {
            TempData["Refused"] = "Nothing was done: choose held tables whose changes are kept.";
            return Redirect(back);
        }

        var isLosing = false;
        foreach (var one in Chosen)
        {
            isLosing |= (await TakenByAsync(one, cancellation)).Count > 0;
        }

        if (isLosing && typed != name)
        {
            TempData["Refused"] = "Nothing was done: the name typed is not the crossing's name.";
            return Redirect(back);
        }

        return await DoAsync($"/crossings/{name}/tables", "The tables catch up.", () =>
            Engine.Held.AgreeAsync(name, [.. Chosen.Select(one => one.Source)], By, cancellation)
        );
    }

    public Task<IActionResult> OnPostLeaveOutAsync(string name, string[] table, CancellationToken cancellation)
    {
        if (!Find(name))
        {
            return Task.FromResult<IActionResult>(NotFound());
        }

        Choose(table);
        return DoAsync($"/crossings/{name}/tables", "The tables continue without the change.", () =>
            Engine.Held.LeaveOutAsync(name, [.. Chosen.Select(one => one.Source)], By, cancellation)
        );
    }

    private void Choose(string[] asked)
    {
        var (chosen, unknown) = TablesOf.Choose(Status, asked);
        Chosen = [.. chosen.Where(one => one.MayContinue)];
        Others = [.. chosen.Except(Chosen).Select(one => one.Source.ToString()).Union(unknown).Order()];
    }

    private async Task<IReadOnlyList<LostByAgreeing>> LostOfAsync(TableStatus table, CancellationToken cancellation)
    {
        var lost = new List<LostByAgreeing>();
        var lookup = Connections.Find<IRowLookup>(Status.Definition.Target);
        var name = table.Target.ToString();
        foreach (var change in await TakenByAsync(table, cancellation))
        {
            if (change.TakesRows)
            {
                var rows = await CountAsync(lookup, one => one.CountWithinAsync(table.Target, change.Before!, cancellation));
                lost.Add(new LostByAgreeing(name, null, change.Subject, rows));
            }
            else
            {
                // By the name on the target: what a step of the treatment names holds its table for good.
                var column = Status.Definition.Naming?.Cased(change.Subject) ?? change.Subject;
                var values = await CountAsync(lookup, one => one.CountValuesAsync(table.Target, column, cancellation));
                lost.Add(new LostByAgreeing(name, column, null, values));
            }
        }

        return lost;
    }

    private static async Task<long?> CountAsync(IRowLookup? lookup, Func<IRowLookup, Task<long?>> count)
    {
        try
        {
            return lookup is null ? null : await count(lookup);
        }
        catch (PortException)
        {
            return null;
        }
    }

    private async Task<IReadOnlyList<SchemaChange>> TakenByAsync(TableStatus table, CancellationToken cancellation)
    {
        var version = await Engine.Held.VersionAsync(Status.Name, table.Source, cancellation);
        return [.. (version?.Changes ?? []).Where(change => change.TakesRows || change.Kind == SchemaChangeKind.ColumnDropped)];
    }
}
