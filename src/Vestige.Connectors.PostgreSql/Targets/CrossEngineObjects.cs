using Vestige.Core.Schemas;
using Vestige.Core.Treatments;

namespace Vestige.Connectors.PostgreSql.Targets;

/// <summary>
/// Keys and references of a table whose source is of another engine, made of what is known of them there without its statements.
/// </summary>
internal sealed class CrossEngineObjects
{
    private readonly TableSchema form;
    private readonly List<SchemaObject> made = [];
    private readonly List<string> notMade = [];
    private readonly List<ForeignKey> references = [];

    public CrossEngineObjects(TableTreatment treatment, TableSchema form, IReadOnlyDictionary<TableName, TableTreatment> bySource)
    {
        this.form = form;
        if (form.HasKey)
        {
            made.Add(TargetStructureBuilder.OwnKey(form));
        }

        foreach (var unique in form.UniqueKeys)
        {
            made.Add(Constraint(SchemaStage.Key, unique.Columns, "_key", $"UNIQUE ({Quote.Names(unique.Columns)})"));
        }

        foreach (var key in treatment.Source.ForeignKeys.Where(key => bySource.ContainsKey(key.References)))
        {
            Refer(treatment, bySource[key.References], key);
        }
    }

    public IReadOnlyList<SchemaObject> Made => made;

    public IReadOnlyList<string> NotMade => notMade;

    public IReadOnlyList<ForeignKey> References => references;

    /// <summary>Without their actions: what those do at the source comes by the log.</summary>
    private void Refer(TableTreatment from, TableTreatment to, ForeignKey key)
    {
        var kept = KeptReference.Of(from, to, key.Columns, key.ReferencedColumns, out var reason);
        if (kept is not null && !IsUnique(to.Tables[0].Schema, kept.ReferencedColumns))
        {
            (kept, reason) = (null, "what it refers to is not unique there");
        }

        if (kept is null)
        {
            notMade.Add($"the reference of {from.Source.Name} ({string.Join(", ", key.Columns)}) to {key.References}: {reason}");
            return;
        }

        references.Add(new ForeignKey(kept.Columns, kept.References, kept.ReferencedColumns));
        made.Add(
            Constraint(
                SchemaStage.Reference,
                kept.Columns,
                "_fkey",
                $"FOREIGN KEY ({Quote.Names(kept.Columns)}) REFERENCES {Quote.Name(kept.References)} "
                    + $"({Quote.Names(kept.ReferencedColumns)})"
            ) with
            {
                References = kept.References,
                ReferencedColumns = kept.ReferencedColumns,
            }
        );
    }

    private static bool IsUnique(TableSchema table, IReadOnlyList<string> columns) =>
        table
            .UniqueKeys.Select(unique => unique.Columns)
            .Append([.. table.KeyOrdinals.Select(i => table.Columns[i].Name)])
            .Any(unique => unique.ToHashSet().SetEquals(columns));

    private SchemaObject Constraint(SchemaStage stage, IReadOnlyList<string> columns, string ending, string text)
    {
        var name = TargetStructureBuilder.NameFor(form.Name with { Name = "" }, form.Name, $"_{string.Join('_', columns)}{ending}");
        return new SchemaObject(stage, name, $"ALTER TABLE {Quote.Name(form.Name)} ADD CONSTRAINT {Quote.Name(name)} {text}")
        {
            Columns = columns,
            Text = text,
        };
    }
}
