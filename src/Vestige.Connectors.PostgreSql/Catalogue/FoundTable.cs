using System.Text;
using Vestige.Core.Schemas;

namespace Vestige.Connectors.PostgreSql.Catalogue;

/// <summary>A table, view or the like as the catalogue has it, and what it means for a crossing.</summary>
internal sealed record FoundTable(
    TableName Name,
    char Kind,
    char Persistence,
    TableName? PartOf,
    char Identity,
    IReadOnlyList<FoundColumn> Columns,
    IReadOnlyList<string> Key,
    IReadOnlyList<FoundConstraint> Constraints,
    IReadOnlyList<FoundIndex> Indexes,
    Func<long, IReadOnlyList<FoundColumn>> ColumnsOf,
    string Incarnation,
    string Stamp,
    IReadOnlyList<string> KeyedParts
)
{
    private const int FewParts = 3;

    /// <summary>Why it cannot cross; null when it can.</summary>
    public string? Reason =>
        KindReason
        ?? IdentityReason
        ?? Columns
            .Where(column => column.Generated && Key.Contains(column.Name))
            .Select(column => $"its key column {column.Name} is generated")
            .FirstOrDefault();

    /// <summary>Whether it could cross at least by its inserts: nothing but a way to find changed rows is missing.</summary>
    public bool InsertsCross => KindReason is null && IdentityReason is not null;

    /// <summary>
    /// The statements after which the log tells of each change the whole row as it was; null when it does. Changes of a partitioned
    /// table are logged by its parts, each as its own replica identity says.
    /// </summary>
    public string? WholeRowsBy =>
        Kind == 'p'
            ? KeyedParts.Count == 0
                ? null
                : string.Join("; ", KeyedParts.Select(Whole))
            : Identity == 'f'
                ? null
                : Whole(Quote.Name(Name));

    /// <summary>The statements, as far as they are few.</summary>
    private string WholeWithParts =>
        KeyedParts.Count <= FewParts
            ? string.Join("; ", KeyedParts.Prepend(Quote.Name(Name)).Select(Whole))
            : $"{Whole(Quote.Name(Name))}, and the same for each of its {KeyedParts.Count} partitions,";

    private static string Whole(string table) => $"ALTER TABLE {table} REPLICA IDENTITY FULL";

    private string? KindReason =>
        this switch
        {
            { Kind: 'v' } => "it is a view; its tables can be replicated",
            { Kind: 'm' } => "it is a materialised view; its tables can be replicated",
            { Kind: 'f' } => "it is a foreign table; its rows are in another database",
            { PartOf: not null, Kind: 'p' } => "it is a level of a partitioned table; the whole can be replicated, or its partitions",
            { Persistence: 't' } => "it is temporary",
            { Persistence: 'u' } => "it is unlogged: its changes are not in the log",
            _ => null,
        };

    private string? IdentityReason =>
        this switch
        {
            { Identity: 'n' } =>
                "its replica identity is nothing: changed rows could not be found again; set another with ALTER TABLE ... REPLICA IDENTITY",
            { Key.Count: 0, Identity: 'f', Kind: 'r' } or { Key.Count: 0, Identity: 'f', Kind: 'p', KeyedParts.Count: 0 } => null,
            { Key.Count: 0, Kind: 'p' } =>
                $"it has no primary key: changed rows could not be found again; {WholeWithParts} lets them be found by the whole row",
            { Key.Count: 0 } when Constraints.Any(constraint => constraint.Kind == 'p') =>
                "its primary key is deferrable, so the server cannot identify rows in its log by it: changed rows could not be found "
                    + $"again; with {Whole(Quote.Name(Name))} they are found by the whole row",
            { Key.Count: 0 } =>
                "it has no primary key and no replica identity by an index: changed rows could not be found again; with ALTER TABLE "
                    + "... REPLICA IDENTITY FULL they are found by the whole row",
            _ => null,
        };

    /// <summary>
    /// Its form: the columns that cross (generated ones are computed again by the target), and its structure as statements.
    /// </summary>
    public TableSchema Schema(UserTypes types)
    {
        var crossing = Columns.Where(column => !column.Generated).ToList();
        var columns = crossing
            .Select(column => new Column(
                column.Name,
                column.Type,
                !column.NotNull,
                Key.ToList().IndexOf(column.Name) + 1,
                column.Default,
                Collation: column.Collation,
                Id: column.Number
            ))
            .ToList();
        var foreignKeys = Constraints
            .Where(constraint => constraint is { Kind: 'f', References: not null })
            .Select(constraint => new ForeignKey(
                NamesOf(constraint.Columns),
                constraint.References!.Value,
                NamesOf(constraint.ReferencedColumns, ColumnsOf(constraint.Referenced))
            ))
            .ToList();
        return new TableSchema(Name, columns, [], foreignKeys)
        {
            Objects = Kind is 'r' or 'p' ? [.. PartsOf(types)] : [],
            Incarnation = Incarnation,
            Stamp = Stamp,
        };
    }

    private IEnumerable<SchemaObject> PartsOf(UserTypes types)
    {
        yield return new SchemaObject(
            SchemaStage.Before,
            Quote.Name(Name.Schema),
            $"CREATE SCHEMA IF NOT EXISTS {Quote.Name(Name.Schema)}"
        );
        foreach (var column in Columns)
        {
            foreach (var part in types.Needed(column.Type))
            {
                yield return part with
                {
                    Columns = [column.Name],
                };
            }
        }

        foreach (var part in Extensions())
        {
            yield return part;
        }

        yield return new SchemaObject(SchemaStage.Table, Name.Name, CreateTableStatement.Of(Name, Lines()))
        {
            Needs = [.. Columns.Where(column => !column.Generated).SelectMany(NeedsOf)],
        };
        foreach (var part in Within())
        {
            yield return part;
        }

        foreach (var constraint in Constraints.Where(constraint => constraint.Kind is 'p' or 'u' or 'x'))
        {
            var stage = constraint.Kind switch
            {
                'p' => SchemaStage.PrimaryKey,
                'u' => SchemaStage.Key,
                _ => SchemaStage.Index,
            };
            yield return Added(stage, constraint);
        }

        foreach (var index in Indexes)
        {
            var statement = index.Statement.Replace(" ON ONLY ", " ON ", StringComparison.Ordinal);
            yield return new SchemaObject(SchemaStage.Index, index.Name, statement)
            {
                Columns = ReadBy(index),
                Text = IndexText(index),
                Needs = [.. index.Needs.Select(need => need.Need)],
            };
        }

        foreach (var constraint in Constraints.Where(constraint => constraint.Kind == 'f'))
        {
            yield return Added(SchemaStage.Reference, constraint);
        }
    }

    private SchemaObject Added(SchemaStage stage, FoundConstraint constraint) =>
        new(
            stage,
            constraint.Name,
            $"ALTER TABLE {Quote.Name(Name)} ADD CONSTRAINT {Quote.Name(constraint.Name)} {constraint.Statement}",
            constraint.References
        )
        {
            Columns = NamesOf(constraint.Columns),
            ReferencedColumns = NamesOf(constraint.ReferencedColumns, ColumnsOf(constraint.Referenced)),
            Text = constraint.Statement,
            Needs = [.. constraint.Needs.Select(need => need.Need)],
        };

    /// <summary>The statements that make the extensions whose functions, operators and the like the structure uses.</summary>
    private IEnumerable<SchemaObject> Extensions() =>
        Columns
            .SelectMany(column => column.Needs.Select(need => (Need: need, column.Name)))
            .Concat(
                Constraints.SelectMany(constraint =>
                    constraint.Needs.Select(need => (Need: need, Name: NamesOf(constraint.Columns).FirstOrDefault("")))
                )
            )
            .Concat(Indexes.SelectMany(index => index.Needs.Select(need => (Need: need, Name: ReadBy(index).FirstOrDefault("")))))
            .Where(pair => pair.Need.Extension is not null)
            .DistinctBy(pair => pair.Need.Extension)
            .SelectMany(pair =>
                UserTypes
                    .PartsOfExtension(pair.Need.Extension!, pair.Need.Extension!, pair.Need.ExtensionSchema!)
                    .Select(part => part with { Columns = [pair.Name] })
            );

    private static IEnumerable<SchemaNeed> NeedsOf(FoundColumn column) => column.Needs.Select(need => need.Need);

    /// <summary>Why a check is not made on a copy; null when it is.</summary>
    private static string? NotMade(FoundConstraint check) =>
        !check.IsValid ? "it is NOT VALID at the source, whose older rows may break it"
        : check.Needs.FirstOrDefault(need => need is { IsFunction: true, Extension: null }) is { } called
            ? $"it calls {called.Object.Name}, which may ask for more than the row itself"
        : null;

    /// <summary>
    /// UNIQUE where it is, and all from USING on; the part before it names the index and the table, whose names are known.
    /// </summary>
    private static string IndexText(FoundIndex index)
    {
        var named = index.Statement.IndexOf(
            " ON ",
            index.Statement.IndexOf(index.Name.Replace("\"", "\"\"", StringComparison.Ordinal), StringComparison.Ordinal)
                + index.Name.Length,
            StringComparison.Ordinal
        );
        var use = index.Statement.IndexOf(" USING ", named, StringComparison.Ordinal);
        return $"{(index.IsUnique ? "UNIQUE" : "")}{index.Statement[use..]}";
    }

    /// <summary>The columns that cross of which an index is made; an expression may read all of them.</summary>
    private List<string> ReadBy(FoundIndex index) =>
        [
            .. Columns
                .Where(column => index.HasExpressions || index.Columns.Contains(column.Number))
                .SelectMany(column => column.Generated ? NamesOf(column.ComputedFrom) : [column.Name])
                .Distinct(),
        ];

    private IReadOnlyList<string> NamesOf(IEnumerable<short> numbers) => NamesOf(numbers, Columns);

    private static IReadOnlyList<string> NamesOf(IEnumerable<short> numbers, IReadOnlyList<FoundColumn> columns) =>
        [.. numbers.Select(number => columns.FirstOrDefault(column => column.Number == number)?.Name).OfType<string>()];

    /// <summary>Columns that the target computes, and checks.</summary>
    private IEnumerable<SchemaObject> Within() =>
        [
            .. Columns
                .Where(column => column.Generated)
                .Select(column => new SchemaObject(SchemaStage.Within, column.Name, "")
                {
                    Columns = NamesOf(column.ComputedFrom),
                    Text = Line(column),
                    Needs = [.. NeedsOf(column)],
                }),
            .. Constraints
                .Where(constraint => constraint.Kind == 'c')
                .Select(constraint => new SchemaObject(SchemaStage.Within, constraint.Name, "")
                {
                    Columns = NamesOf(constraint.Columns),
                    Text = Check(constraint),
                    NotMade = NotMade(constraint),
                    Needs = [.. constraint.Needs.Select(need => need.Need)],
                }),
        ];

    private IEnumerable<string> Lines() =>
        Columns.Select(Line).Concat(Constraints.Where(constraint => constraint.Kind == 'c' && NotMade(constraint) is null).Select(Check));

    private static string Check(FoundConstraint constraint) => $"CONSTRAINT {Quote.Name(constraint.Name)} {constraint.Statement}";

    private static string Line(FoundColumn column) =>
        CreateTableStatement.Line(
            column.Name,
            column.Type,
            column.Collation,
            column.Generated ? null : column.Default,
            column.Generated ? column.Default : null,
            column.NotNull
        );
}
