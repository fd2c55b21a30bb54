using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Expressions;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Engine.Ports;
using Vestige.Engine.Treating;
using Vestige.Web.Treating;

namespace Vestige.Web.Tracing;

/// <summary>A row as it stands on both sides now. Of a value under a mask only type and length are told.</summary>
public sealed class RowSides
{
    private RowSides(TableName there) => There = there;

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

    /// <summary>Looks; without a key, or in a table without one, only at the form of the table.</summary>
    /// <param name="source">Here.</param>
    /// <param name="target">There.</param>
    /// <param name="treating">What happens on the way.</param>
    /// <param name="table">The source's table.</param>
    /// <param name="into">The target's table, where the treatment does not say another.</param>
    /// <param name="key">The key, its values separated by commas.</param>
    /// <param name="cancellation">Gives up.</param>
    public static async Task<RowSides> LookAsync(
        SourceSystem source,
        TargetSystem target,
        CrossingTreatment treating,
        TableName table,
        TableName into,
        string key,
        CancellationToken cancellation
    )
    {
        ArgumentNullException.ThrowIfNull(source);
        ArgumentNullException.ThrowIfNull(target);
        ArgumentNullException.ThrowIfNull(treating);
        ArgumentNullException.ThrowIfNull(key);
        var sides = new RowSides(into);
        await sides.FindAsync(source, target, treating, table, key, cancellation);
        return sides;
    }

    private async Task FindAsync(
        SourceSystem source,
        TargetSystem target,
        CrossingTreatment treating,
        TableName table,
        string typed,
        CancellationToken cancellation
    )
    {
        var into = There;
        var here = await FormAsync(source.Catalogue, table, cancellation);
        Keyless = here is { HasKey: false };
        KeyNames = here is null ? "" : string.Join(", ", here.KeyOrdinals.Select(i => here.Columns[i].Name));
        if (here is null || Keyless || typed.Length == 0)
        {
            return;
        }

        var treatment = treating.Build(here);
        Treated = !treatment.PassesAll;
        var key = here.KeyOrdinals.Count == 1 ? [typed] : typed.Split(',', StringSplitOptions.TrimEntries);
        var row = await source.Lookup.FindAsync(here, key, cancellation);
        var made = row is { } whole ? Treat(treatment, whole) : null;
        LeftOut = row is not null && made is null;
        There = made?.Table.Schema.Name ?? into;
        var there = await FormAsync(target.Catalogue, There, cancellation);
        var keyThere =
            made is { } treated ? [.. treated.Table.Schema.KeyOrdinals.Select(treated.Change.After.DisplayAt)]
            : treatment.Tables[0].Schema.Shared is { } shared ? [shared.Value, .. key]
            : treatment.Mode == ApplyMode.KeepVersions ? [.. key, "infinity"]
            : key;
        var rowThere = there is null ? null : await target.Lookup.FindAsync(there, keyThere, cancellation);
        HasHere = row is not null;
        HasThere = rowThere is not null;
        var masked = treatment.Hidden;
        Values =
        [
            .. treatment.Columns.Select((column, i) => Compare(treatment, masked, column, (row, made?.Change.After, i), (there, rowThere))),
        ];
    }

    private static async Task<TableSchema?> FormAsync(ICatalogue catalogue, TableName table, CancellationToken cancellation) =>
        (await catalogue.ReadTablesAsync(cancellation)).FirstOrDefault(candidate => candidate.Schema.Name == table)?.Schema;

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

    /// <summary>
    /// A column here and there: here its own value, hidden under a mask; it differs when what is there is not what the treatment makes.
    /// </summary>
    private static (string Column, string? Here, string? There, bool Differs) Compare(
        TableTreatment treatment,
        IReadOnlySet<int> masked,
        TreatedColumn column,
        (Row? Row, Row? Made, int Place) here,
        (TableSchema? Schema, Row? Row) there
    )
    {
        var source = column.Of >= 0 ? treatment.Source.Columns[column.Of] : null;
        var left =
            here.Row is not { } row ? null
            : source is null ? here.Made?.DisplayAt(here.Place) ?? ""
            : masked.Contains(column.Of) ? BeforeAfter.Hidden(row, column.Of, source.Type)
            : row.DisplayAt(column.Of);
        var index = there.Schema?.IndexOf(column.Name) ?? -1;
        var right = index < 0 || there.Row is not { } found ? null : found.DisplayAt(index);
        var wanted = column.Mark == SystemColumn.None ? here.Made?.DisplayAt(here.Place) : right;

        // Another crossing hides what this one carries as it is: neither side shows it.
        var shown =
            right is not null && column.Of >= 0 && masked.Contains(column.Of) && !treatment.Masked.Contains(column.Of)
                ? BeforeAfter.Hidden(there.Row!.Value, index, source!.Type)
                : right;
        var name = source is null || source.Name == column.Name ? column.Name : $"{source.Name} → {column.Name}";
        return (name, left, shown, wanted != right && here.Made is not null && there.Row is not null);
    }
}
