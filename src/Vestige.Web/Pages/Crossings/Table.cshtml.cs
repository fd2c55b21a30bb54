using Microsoft.AspNetCore.Mvc;
using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Expressions;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Engine.Faults;
using Vestige.Engine.Measuring;
using Vestige.Engine.Supervision;
using Vestige.Web.Connections;
using Vestige.Web.Treating;
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

    /// <summary>Whether something happens to values on the way.</summary>
    public bool Treated { get; private set; }

    /// <summary>Whether the row is here and its treatment lets it go nowhere.</summary>
    public bool LeftOut { get; private set; }

    /// <summary>The target's table in which the row is looked for.</summary>
    public TableName There { get; private set; }

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
        There = found.Target;
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
        Keyless = here is { HasKey: false };
        KeyNames = here is null ? "" : string.Join(", ", here.KeyOrdinals.Select(i => here.Columns[i].Name));
        if (here is null || Keyless || Key.Length == 0)
        {
            return;
        }

        var treatment = Engine.TreatmentOf(Status.Definition).Build(here);
        Treated = !treatment.PassesAll;
        var key = here.KeyOrdinals.Count == 1 ? [Key] : Key.Split(',', StringSplitOptions.TrimEntries);
        var row = await source.FindAsync(here, key, cancellation);
        var made = row is { } whole ? Treat(treatment, whole) : null;
        LeftOut = row is not null && made is null;
        There = made?.Table.Form.Name ?? Table.Target;
        var there = await FormAsync(target, There, cancellation);
        var keyThere = made is { } treated ? [.. treated.Table.Form.KeyOrdinals.Select(treated.Change.After.DisplayAt)] : treatment.Tables[0].Form.Shared is { } shared ? [shared.Value, .. key] : treatment.Mode == ApplyMode.KeepVersions ? [.. key, "infinity"] : key;
        var rowThere = there is null ? null : await target.FindAsync(there, keyThere, cancellation);
        HasHere = row is not null;
        HasThere = rowThere is not null;
        var masked = treatment.Hidden;
        Values = [.. treatment.Columns.Select((column, i) => Compare(treatment, masked, column, (row, made?.Change.After, i), (there, rowThere)))];
    }

    private static async Task<TableSchema?> FormAsync(Vestige.Engine.Ports.IDatabase database, TableName table, CancellationToken cancellation) =>
        (await database.ReadTablesAsync(cancellation)).FirstOrDefault(candidate => candidate.Schema.Name == table)?.Schema;

    private static TreatedChange? Treat(TableTreatment treatment, Row row)
    {
        try
        {
            var made = new List<TreatedChange>();
            treatment.Load(row, made);
            return made.Count == 0 ? null : made[0];
        }
        catch (EvaluationException)
        {
            return null;
        }
    }

    /// <summary>A column here and there: here its own value, hidden under a mask; it differs when what is there is not what the treatment makes.</summary>
    private static (string Column, string? Here, string? There, bool Differs) Compare(
        TableTreatment treatment,
        IReadOnlySet<int> masked,
        TreatedColumn column,
        (Row? Row, Row? Made, int Place) here,
        (TableSchema? Form, Row? Row) there)
    {
        var source = column.Of >= 0 ? treatment.Source.Columns[column.Of] : null;
        var left = here.Row is not { } row ? null : source is null ? here.Made?.DisplayAt(here.Place) ?? "" : masked.Contains(column.Of) ? BeforeAfter.Hidden(row, column.Of, source.Type) : row.DisplayAt(column.Of);
        var index = there.Form?.IndexOf(column.Name) ?? -1;
        var right = index < 0 || there.Row is not { } found ? null : found.DisplayAt(index);
        var wanted = column.Mark == ChangeMark.None ? here.Made?.DisplayAt(here.Place) : right;
        var name = source is null || source.Name == column.Name ? column.Name : $"{source.Name} → {column.Name}";
        return (name, left, right, wanted != right && here.Made is not null && there.Row is not null);
    }
}
