using Microsoft.AspNetCore.Mvc;
using Vestige.Core.Changes;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Measuring;
using Vestige.Engine.Supervision;
using Vestige.Web.Connections;
using Vestige.Web.Views;

namespace Vestige.Web.Pages.Crossings;

/// <summary>One table of a crossing: a row on both sides, found by key.</summary>
public class TableModel(CrossingEngine engine, ConnectionDirectory connections, TimeProvider clock) : CrossingPage(engine, connections, clock)
{
    private const int RecentShown = 12;

    public override string View => "tables";

    public TableStatus Table { get; private set; } = null!;

    public string Key { get; private set; } = "";

    /// <summary>The key columns' names.</summary>
    public string KeyNames { get; private set; } = "";

    /// <summary>Whether the table is there and has no key.</summary>
    public bool Keyless { get; private set; }

    public IReadOnlyList<(string Column, string? Here, string? There, bool Differs)> Values { get; private set; } = [];

    public bool HasHere { get; private set; }

    public bool HasThere { get; private set; }

    /// <summary>Why a side cannot be read; null when both can.</summary>
    public string? Problem { get; private set; }

    public IReadOnlyList<RecentChange> Recent { get; private set; } = [];

    public async Task<IActionResult> OnGetAsync(string name, string table, string? key, string? part, CancellationToken cancellation)
    {
        if (!Find(name) || Status.Tables.FirstOrDefault(candidate => candidate.Source.ToString() == Addresses.TableFrom(table)) is not { } found)
        {
            return NotFound();
        }

        Table = found;
        Key = key ?? "";
        Recent = [.. Engine.Meter(name)!.Recent.Where(change => change.Table == found.Source).Take(RecentShown)];
        try
        {
            await LookAsync(cancellation);
        }
        catch (PortException exception)
        {
            Problem = $"{exception.Message} {exception.Mend}";
        }

        return part == "live" ? Partial("Crossings/_Sides", this) : Page();
    }

    private async Task LookAsync(CancellationToken cancellation)
    {
        var source = Connections.Source(Status.Definition.Source);
        var target = Connections.Target(Status.Definition.Target);
        var here = await FormAsync(source, Table.Source, cancellation);
        var there = await FormAsync(target, Table.Target, cancellation);
        var form = here ?? there;
        Keyless = here is { HasKey: false };
        KeyNames = form is null ? "" : string.Join(", ", form.KeyOrdinals.Select(i => form.Columns[i].Name));
        if (form is null || Keyless || Key.Length == 0)
        {
            return;
        }

        var key = form.KeyOrdinals.Count == 1 ? [Key] : Key.Split(',', StringSplitOptions.TrimEntries);
        var rowHere = here is null ? null : await source.FindAsync(here, key, cancellation);
        var rowThere = there is null ? null : await target.FindAsync(there, key, cancellation);
        HasHere = rowHere is not null;
        HasThere = rowThere is not null;
        Values = [.. form.Columns.Select(column => Compare(column.Name, (here, rowHere), (there, rowThere)))];
    }

    private static async Task<TableSchema?> FormAsync(Vestige.Engine.Ports.IDatabase database, TableName table, CancellationToken cancellation) =>
        (await database.ReadTablesAsync(cancellation)).FirstOrDefault(candidate => candidate.Schema.Name == table)?.Schema;

    private static (string Column, string? Here, string? There, bool Differs) Compare(
        string column,
        (TableSchema? Form, Row? Row) here,
        (TableSchema? Form, Row? Row) there)
    {
        var (left, right) = (Show(column, here), Show(column, there));
        return (column, left, right, left != right && here.Row is not null && there.Row is not null);
    }

    private static string? Show(string column, (TableSchema? Form, Row? Row) side)
    {
        var index = side.Form?.IndexOf(column) ?? -1;
        return index < 0 || side.Row is not { } row ? null : row.DisplayAt(index);
    }
}
