using System.Security.Cryptography;
using System.Text;
using Vestige.Connectors.PostgreSql.Catalogue;
using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.PostgreSql.Targets;

/// <summary>
/// Makes out of the source's structure that of the target. A table that keeps its form and its name keeps every statement;
/// of all others, what depends on columns that are there unchanged is rewritten with their names, and the rest is reported.
/// </summary>
internal sealed class TargetStructureBuilder(IReadOnlyList<TableTreatment> treatments)
{
    private const int NameBytes = 63;
    private readonly Dictionary<TableName, TableTreatment> bySource = treatments.ToDictionary(treatment => treatment.Source.Name);
    private readonly List<string> notMade = [];

    public TargetStructure Build()
    {
        notMade.AddRange(treatments.SelectMany(LeftOut));
        var tables = treatments
            .SelectMany(treatment => treatment.WithChildren)
            .SelectMany(treatment => treatment.OwnTables.Select(table => WithIdentity(FormOf(treatment, table.Schema))))
            .ToList();
        return new TargetStructure(tables, [.. notMade.Distinct()]);
    }

    /// <summary>The parts of the source's table that copies get.</summary>
    private static IEnumerable<SchemaObject> PartsOf(TableTreatment treatment) =>
        treatment.Source.Objects.Where(part => part.NotMade is null);

    /// <summary>The others, each with its reason.</summary>
    private static IEnumerable<string> LeftOut(TableTreatment treatment) =>
        treatment
            .Source.Objects.Where(part => part.NotMade is not null)
            .Select(part =>
                part.Stage == SchemaStage.Before
                    ? $"{part.Name}: {part.NotMade}"
                    : $"{part.Name} of {treatment.Source.Name}: {part.NotMade}"
            );

    /// <summary>Rows without a key are found by all they hold, also by whoever reads this target's log.</summary>
    private static TableSchema WithIdentity(TableSchema form) =>
        form.HasKey
            ? form
            : form with
            {
                Objects =
                [
                    .. form.Objects,
                    new SchemaObject(
                        SchemaStage.Key,
                        $"replica identity of {form.Name}",
                        $"ALTER TABLE {Quote.Name(form.Name)} REPLICA IDENTITY FULL"
                    ),
                ],
            };

    private TableSchema FormOf(TableTreatment treatment, TableSchema form)
    {
        var source = treatment.Source;
        var same = treatment.KeepsForm && form.Name == source.Name;
        var parts = new List<SchemaObject>();
        if (!same)
        {
            parts.Add(
                new SchemaObject(
                    SchemaStage.Before,
                    Quote.Name(form.Name.Schema),
                    $"CREATE SCHEMA IF NOT EXISTS {Quote.Name(form.Name.Schema)}"
                )
            );
            parts.Add(
                new SchemaObject(SchemaStage.Table, form.Name.Name, CreateTableStatement.Of(form.Name, Lines(treatment, form)))
                {
                    Needs = [.. PartsOf(treatment).Where(part => part.Stage == SchemaStage.Table).SelectMany(part => part.Needs)],
                }
            );
        }

        if (form.Shared is not null || treatment.Mode == ApplyMode.KeepVersions)
        {
            parts.AddRange(
                PartsOf(treatment)
                    .Where(part => part.Stage == SchemaStage.Before)
                    .Select(part => Renamed(treatment, form, part))
                    .OfType<SchemaObject>()
            );
            parts.Add(OwnKey(form));
            var reason = form.Shared is null ? $"every version of a row is in {form.Name}" : $"rows of several tables are in {form.Name}";
            notMade.AddRange(
                PartsOf(treatment)
                    .Where(part =>
                        part.Stage is SchemaStage.Key or SchemaStage.Index or SchemaStage.Reference
                        || (part.Stage == SchemaStage.Within && form.Shared is not null)
                    )
                    .Select(part => $"{part.Name} of {source.Name}: {reason}")
            );
            return form with { Objects = parts };
        }

        if (treatment.CrossesEngines)
        {
            var own = new CrossEngineObjects(treatment, form, bySource);
            parts.AddRange(own.Made);
            notMade.AddRange(own.NotMade);
            return form with { Objects = parts, ForeignKeys = own.References };
        }

        if (treatment.IsOfChildren)
        {
            parts.Add(OwnKey(form));
        }

        parts.AddRange(
            PartsOf(treatment)
                .Select(part =>
                    part.Stage == SchemaStage.Reference ? ReferenceOf(treatment, form, part)
                    : same ? part
                    : Renamed(treatment, form, part)
                )
                .OfType<SchemaObject>()
        );

        var references = parts
            .Where(part => part.Stage == SchemaStage.Reference)
            .Select(part => new ForeignKey(part.Columns, part.References!.Value, part.ReferencedColumns))
            .ToList();
        return form with { Objects = parts, ForeignKeys = references };
    }

    /// <summary>Where the source's key is only a part of it: with the origin before, or the end of a version's time after.</summary>
    internal static SchemaObject OwnKey(TableSchema form)
    {
        var columns = form.KeyOrdinals.Select(i => form.Columns[i].Name).ToList();
        var (name, text) = (
            NameFor(form.Name with { Name = "" }, form.Name, "_pkey"),
            $"PRIMARY KEY ({string.Join(", ", columns.Select(Quote.Name))})"
        );
        return new SchemaObject(
            SchemaStage.PrimaryKey,
            name,
            $"ALTER TABLE {Quote.Name(form.Name)} ADD CONSTRAINT {Quote.Name(name)} {text}"
        )
        {
            Columns = columns,
            Text = text,
        };
    }

    private IEnumerable<string> Lines(TableTreatment treatment, TableSchema form)
    {
        foreach (var column in form.Columns)
        {
            yield return CreateTableStatement.Line(
                column.Name,
                column.Type,
                column.Collation,
                form.Shared is null ? column.Default : null,
                null,
                !column.Nullable
            );
        }

        if (form.Shared is not null)
        {
            yield break;
        }

        foreach (var part in PartsOf(treatment).Where(part => part.Stage == SchemaStage.Within))
        {
            if (KeepsNames(treatment, part.Columns))
            {
                yield return part.Text;
            }
            else
            {
                notMade.Add($"{part.Name} of {treatment.Source.Name}: a column that it reads is not replicated unchanged");
            }
        }
    }

    /// <summary>
    /// Whether all columns are there unchanged and under their own names, so that an expression of the source reads the same.
    /// </summary>
    private static bool KeepsNames(TableTreatment treatment, IReadOnlyList<string> columns) =>
        CarriedColumns.Unchanged(treatment, columns) is { } names && names.SequenceEqual(columns);

    /// <summary>A part as it is on another table; null when it is not made, or made with the table.</summary>
    private SchemaObject? Renamed(TableTreatment treatment, TableSchema form, SchemaObject part)
    {
        var source = treatment.Source;
        switch (part.Stage)
        {
            case SchemaStage.Before:
                return
                    part.Columns.Count > 0
                    && treatment.Columns.Any(column =>
                        column.IsPassed
                        && column.Of >= 0
                        && source.Columns[column.Of].Name == part.Columns[0]
                        && source.Columns[column.Of].Type == column.Type
                    )
                    ? part
                    : null;
            case SchemaStage.PrimaryKey or SchemaStage.Key when CarriedColumns.Of(source, treatment.Columns, part.Columns) is { } columns:
                var name = NameFor(source.Name, form.Name, part.Name);
                var text = ListText.Replace(part.Text, 0, columns);
                return part with
                {
                    Name = name,
                    Columns = columns,
                    Text = text,
                    Statement = $"ALTER TABLE {Quote.Name(form.Name)} ADD CONSTRAINT {Quote.Name(name)} {text}",
                };
            case SchemaStage.Index when KeepsNames(treatment, part.Columns):
                return Index(form, part, NameFor(source.Name, form.Name, part.Name));
            case SchemaStage.Table or SchemaStage.Within:
                return null;
            default:
                notMade.Add($"{part.Name} of {source.Name}: a column of it is not replicated unchanged");
                return null;
        }
    }

    private static SchemaObject Index(TableSchema form, SchemaObject part, string name)
    {
        var isConstraint = part.Text.StartsWith("EXCLUDE", StringComparison.Ordinal);
        var unique = part.Text.StartsWith("UNIQUE USING", StringComparison.Ordinal) ? "UNIQUE " : "";
        return part with
        {
            Name = name,
            Statement = isConstraint
                ? $"ALTER TABLE {Quote.Name(form.Name)} ADD CONSTRAINT {Quote.Name(name)} {part.Text}"
                : $"CREATE {unique}INDEX {Quote.Name(name)} ON {Quote.Name(form.Name)}{part.Text[(unique.Length > 0 ? 6 : 0)..]}",
        };
    }

    /// <summary>Only among the tables that cross.</summary>
    private SchemaObject? ReferenceOf(TableTreatment treatment, TableSchema form, SchemaObject part)
    {
        if (!bySource.TryGetValue(part.References!.Value, out var to))
        {
            return null;
        }

        if (KeptReference.Of(treatment, to, part.Columns, part.ReferencedColumns, out var reason) is not { } kept)
        {
            notMade.Add($"{part.Name} of {treatment.Source.Name}: {reason}");
            return null;
        }

        if (
            form.Name == treatment.Source.Name
            && kept.References == part.References
            && kept.Columns.SequenceEqual(part.Columns)
            && kept.ReferencedColumns.SequenceEqual(part.ReferencedColumns)
        )
        {
            return part;
        }

        var name = NameFor(treatment.Source.Name, form.Name, part.Name);
        var text = ListText.ReplaceReference(part.Text, kept);
        return part with
        {
            Name = name,
            References = kept.References,
            Columns = kept.Columns,
            ReferencedColumns = kept.ReferencedColumns,
            Text = text,
            Statement = $"ALTER TABLE {Quote.Name(form.Name)} ADD CONSTRAINT {Quote.Name(name)} {text}",
        };
    }

    /// <summary>Names of keys and indexes are unique within a schema, so they go with the name of their table.</summary>
    internal static string NameFor(TableName source, TableName target, string name)
    {
        if (source.Name == target.Name)
        {
            return name;
        }

        var made = name.StartsWith(source.Name, StringComparison.Ordinal)
            ? target.Name + name[source.Name.Length..]
            : $"{target.Name}_{name}";
        if (Encoding.UTF8.GetByteCount(made) <= NameBytes)
        {
            return made;
        }

        var mark = Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(made)))[..8];
        var kept = made;
        while (Encoding.UTF8.GetByteCount(kept) > NameBytes - 9)
        {
            kept = kept[..^1];
        }

        return $"{kept}_{mark}";
    }
}
