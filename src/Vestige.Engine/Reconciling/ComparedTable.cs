using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Reconciling;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Reconciling;

/// <summary>One table of the target as it is compared with what the treatment makes of the source's rows.</summary>
internal sealed class ComparedTable
{
    private ComparedTable(TreatedTable treated, RowShape target, RowShape? source, bool keyPasses, bool byRange)
    {
        (Treated, Target, Source, KeyPasses, ByRange) = (treated, target, source, keyPasses, byRange);
    }

    public TreatedTable Treated { get; }

    public TableName Name => Treated.Form.Name;

    /// <summary>How the target is read.</summary>
    public RowShape Target { get; }

    /// <summary>How the source is read so that the same is hashed there; null where rows are treated on the way.</summary>
    public RowShape? Source { get; }

    /// <summary>Whether a row has the same key on both sides.</summary>
    public bool KeyPasses { get; }

    /// <summary>Whether ranges of the source's keys are ranges of the target's.</summary>
    public bool ByRange { get; }

    /// <summary>The columns that differ in name only between both sides, or that the treatment makes of each row alone.</summary>
    public static IReadOnlyList<ComparedTable> Of(TableTreatment treatment, IEngineTypes types)
    {
        ArgumentNullException.ThrowIfNull(treatment);
        ArgumentNullException.ThrowIfNull(types);
        return [.. treatment.WithChildren.SelectMany(part => part.OwnTables.Select(table => Of(part, table, types)))];
    }

    /// <summary>Why the rows of the target are not those that the source has now; null when they are to be.</summary>
    public static string? Incomparable(TableTreatment treatment)
    {
        ArgumentNullException.ThrowIfNull(treatment);
        return treatment.Mode switch
        {
            ApplyMode.InsertOnly => "only its inserts are applied, so that its rows stay as they came",
            ApplyMode.KeepDeleted => "rows that the source deleted stay on the target",
            ApplyMode.KeepVersions => "the target keeps every version of its rows",
            _ => null,
        };
    }

    /// <summary>The columns that say how a row came, which the source's row itself does not tell.</summary>
    public IReadOnlyList<string> LeftOut => [.. Treated.Form.Columns.Where((_, i) => !Target.Columns.Contains(i)).Select(column => column.Name)];

    /// <summary>The columns whose values must not be shown.</summary>
    public IReadOnlyList<string> Masked { get; private init; } = [];

    private static ComparedTable Of(TableTreatment part, TreatedTable table, IEngineTypes types)
    {
        List<int> columns = [.. Enumerable.Range(0, part.Columns.Count).Where(i => part.Columns[i].Mark == ChangeMark.None)];
        var key = table.Form.KeyOrdinals.Where(columns.Contains).ToList();
        var target = new RowShape(table.Form, columns, key.Count > 0 ? key : columns);
        var keyPasses = key.Count > 0 && !part.IsOfChildren && part.Source.HasKey
            && key.Select(i => part.Columns[i].Source).SequenceEqual(part.Source.KeyOrdinals)
            && key.TrueForAll(i => part.Columns[i].Type == part.Source.Columns[part.Columns[i].Source].Type);
        var direct = part is { PassesAll: true, IsOfChildren: false, KeepsTypes: true } && part.Tables.Count == 1 && columns.Count == part.Columns.Count && (keyPasses || !part.Source.HasKey);
        var source = direct ? new RowShape(part.Source, [.. part.Columns.Select(column => column.Source)], [.. target.Key.Select(i => part.Columns[i].Source)]) : null;
        return new ComparedTable(table, target, source, keyPasses, keyPasses && WholeKeys.Has(part.Source, types.MeaningOf)) { Masked = [.. part.Columns.Where(column => column.Masked).Select(column => column.Name)] };
    }
}
