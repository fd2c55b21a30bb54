using Microsoft.AspNetCore.Mvc;
using Vestige.Core.Positions;
using Vestige.Core.SchemaVersions;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;
using Vestige.Web.Connections;
using Vestige.Web.Tracing;
using Vestige.Web.Views;

namespace Vestige.Web.Pages.Crossings;

/// <summary>One table of a crossing: a row on both sides, found by key.</summary>
public class TableModel(
    CrossingEngine engine,
    ConnectionDirectory connections,
    LatestChanges latest,
    TimeProvider clock
) : CrossingPage(engine, connections, clock)
{
    public override string View => "tables";

    public TableStatus Table { get; private set; } = null!;

    public string Key { get; private set; } = "";

    /// <summary>The row on both sides; null where a side cannot be read.</summary>
    public RowSides? Sides { get; private set; }

    /// <summary>The key columns' names.</summary>
    public string KeyNames => Sides?.KeyNames ?? "";

    /// <summary>Whether the table is there and has no key.</summary>
    public bool Keyless => Sides?.Keyless == true;

    /// <summary>Why a side cannot be read; null when both can.</summary>
    public string? Problem { get; private set; }

    /// <summary>Whether indexes and constraints can be added to the target's tables.</summary>
    public bool MayBuild => Engine.Structure.IsPossible(Status.Name);

    public IReadOnlyList<RecentChange> Recent { get; private set; } = [];

    /// <summary>The version of the source's table that holds it; null when it is not held, or by something else.</summary>
    public SchemaVersion? HeldBy { get; private set; }

    /// <summary>A position as the source writes it.</summary>
    public string Format(LogPosition position) => Connections.Find<ILogSource>(Status.Definition.Source)?.Format(position) ?? $"{position}";

    public async Task<IActionResult> OnGetAsync(string name, string table, string? key, string? part, CancellationToken cancellation)
    {
        if (
            !Find(name)
            || Status.Tables.FirstOrDefault(candidate => candidate.Source.ToString() == Addresses.TableFrom(table)) is not { } found
        )
        {
            return NotFound();
        }

        Table = found;
        Key = key ?? "";
        Recent = await latest.OfAsync(Status, found.Source, cancellation);
        HeldBy = await Engine.Held.VersionAsync(name, found.Source, cancellation);
        try
        {
            Sides = await RowSides.LookAsync(
                Connections.Source(Status.Definition.Source),
                Connections.Target(Status.Definition.Target),
                Engine.TreatmentOf(Status.Definition),
                found.Source,
                found.Target,
                Key,
                cancellation
            );
        }
        catch (PortException exception)
        {
            Problem = $"{exception.Message} {exception.Remedy}";
        }

        return part == "live" ? Partial("Crossings/_Sides", this) : Page();
    }
}
