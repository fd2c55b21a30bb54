using Microsoft.AspNetCore.Mvc;
using Microsoft.AspNetCore.Mvc.RazorPages;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Engine.Commands;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;
using Vestige.Engine.SchemaVersions;
using Vestige.Web.Connections;
using Vestige.Web.Views;

namespace Vestige.Web.Pages.Connections;

/// <summary>What was different in this version of the table, and whom does it concern?</summary>
public class VersionsModel(ConnectionDirectory connections, ISchemaVersionStore store, CrossingEngine engine, TimeProvider clock)
    : PageModel
{
    private ILogSource? log;

    public string Connection { get; private set; } = "";

    public TableName Table { get; private set; }

    /// <summary>All versions of the table, the latest first; never empty.</summary>
    public IReadOnlyList<SchemaVersion> Versions { get; private set; } = [];

    /// <summary>The version that is shown.</summary>
    public SchemaVersion Shown { get; private set; } = null!;

    /// <summary>The version that it is compared with; null for the first.</summary>
    public SchemaVersion? Other { get; private set; }

    /// <summary>The columns of both side by side; those of the shown one where there is nothing to compare with.</summary>
    public IReadOnlyList<(Column? Before, Column? After)> Columns { get; private set; } = [];

    /// <summary>What is different between the two.</summary>
    public IReadOnlyList<SchemaChange> Changes { get; private set; } = [];

    /// <summary>The crossings that replicate the table, with what they do with the columns that changed.</summary>
    public IReadOnlyList<AffectedCrossing> Affected { get; private set; } = [];

    public async Task<IActionResult> OnGetAsync(string name, string table, int? version, int? with, CancellationToken cancellation)
    {
        if (connections.Find(name) is null || !TryParse(table, out var parsed))
        {
            return NotFound();
        }

        (Connection, Table) = (name, parsed);
        log = connections.Find<ILogSource>(name);
        Versions = await store.OfTableAsync(name, Table, cancellation);
        if (Versions.Count == 0)
        {
            return Redirect($"/connections/{name}/schema?find={Uri.EscapeDataString(Table.ToString())}");
        }

        if ((version is null ? Versions[0] : Find(version.Value)) is not { } shown)
        {
            return NotFound();
        }

        Shown = shown;
        Other = Find(with ?? shown.Number - 1);
        Compare();
        return Page();
    }

    public DateTimeOffset Now { get; } = clock.GetUtcNow();

    /// <summary>A crossing that replicates the table; null where it has been removed a moment ago.</summary>
    public CrossingStatus? Status(string crossing) => engine.Status(crossing);

    /// <summary>When each version was noticed, with its number; of the first it is not known when it was made.</summary>
    public IReadOnlyList<(DateTimeOffset At, string Label)> Marks =>
        [.. Versions.Where(one => one.What.Length > 0).Select(one => (one.NoticedAt, $"{one.Number}"))];

    /// <summary>A position as the source writes it.</summary>
    public string Format(LogPosition position) => log?.Format(position) ?? position.ToString();

    private SchemaVersion? Find(int number) => Versions.FirstOrDefault(one => one.Number == number);

    private void Compare()
    {
        var none = new TableSchema(Table, [], [], []);
        Columns = SchemaComparison.Pairs(Other?.Schema ?? none, Shown.Schema ?? none);
        Changes = Other is { Schema: { } before } && Shown.Schema is { } after ? SchemaComparison.Between(before, after) : Shown.Changes;
        Affected = AffectedCrossing.Of(
            engine.Statuses.Select(status => status.Definition),
            Connection,
            Shown with
            {
                Changes = Changes,
            }
        );
    }

    private static bool TryParse(string segment, out TableName table)
    {
        try
        {
            table = TableName.Parse(Addresses.TableFrom(segment));
            return true;
        }
        catch (FormatException)
        {
            table = default;
            return false;
        }
    }
}
