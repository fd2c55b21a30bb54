using Microsoft.AspNetCore.Mvc;
using Microsoft.AspNetCore.Mvc.RazorPages;
using Vestige.Core.Positions;
using Vestige.Core.SchemaVersions;
using Vestige.Engine.Commands;
using Vestige.Engine.Ports;
using Vestige.Engine.SchemaVersions;
using Vestige.Web.Connections;

namespace Vestige.Web.Pages.Connections;

/// <summary>How did the tables of this source change, and whom does it concern?</summary>
public class SchemaModel(ConnectionDirectory connections, ISchemaVersionStore store, CrossingEngine engine) : PageModel
{
    private const int PerPage = 30;
    private ILogSource? log;

    public string Connection { get; private set; } = "";

    /// <summary>A part of the table's name; empty for all.</summary>
    public string Wanted { get; private set; } = "";

    /// <summary>Those of this page, the latest noticed first.</summary>
    public IReadOnlyList<SchemaVersion> Versions { get; private set; } = [];

    /// <summary>How many changes match, on all pages.</summary>
    public int Found { get; private set; }

    public int Number { get; private set; } = 1;

    public int Last => Math.Max(1, (Found + PerPage - 1) / PerPage);

    /// <summary>How many tables have a version.</summary>
    public int Tables { get; private set; }

    public async Task<IActionResult> OnGetAsync(string name, string? find, int page, CancellationToken cancellation)
    {
        if (connections.Find(name) is null)
        {
            return NotFound();
        }

        (Connection, Wanted) = (name, find?.Trim() ?? "");
        log = connections.Find<ILogSource>(name);
        Number = Math.Max(1, page);
        (Versions, Found) = await store.ListAsync(name, Wanted, changesOnly: true, (Number - 1) * PerPage, PerPage, cancellation);
        if (Number > Last)
        {
            Number = Last;
            (Versions, Found) = await store.ListAsync(name, Wanted, changesOnly: true, (Number - 1) * PerPage, PerPage, cancellation);
        }

        Tables = (await store.LatestAsync(name, cancellation)).Count;
        return Page();
    }

    /// <summary>The crossings that replicate the version's table.</summary>
    public IReadOnlyList<AffectedCrossing> Affected(SchemaVersion version) =>
        AffectedCrossing.Of(engine.Statuses.Select(status => status.Definition), Connection, version);

    /// <summary>A position as the source writes it.</summary>
    public string Format(LogPosition position) => log?.Format(position) ?? position.ToString();
}
