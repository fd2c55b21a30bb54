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
    IReadOnlyList<(string Name, string Statement)> Indexes)
{
    /// <summary>Why it cannot cross; null when it can.</summary>
    public string? Reason => KindReason ?? IdentityReason ?? Columns.Where(column => column.Generated && Key.Contains(column.Name)).Select(column => $"its key column {column.Name} is generated").FirstOrDefault();

    /// <summary>Whether it could cross at least by its inserts: nothing but a way to find changed rows is missing.</summary>
    public bool InsertsCross => KindReason is null && IdentityReason is not null;

    private string? KindReason => this switch
    {
        { Kind: 'v' } => "it is a view; its tables can cross",
        { Kind: 'm' } => "it is a materialised view; its tables can cross",
        { Kind: 'f' } => "it is a foreign table; its rows are in another database",
        { PartOf: not null, Kind: 'p' } => "it is a level of a partitioned table; the whole can cross, or its parts",
        { Persistence: 't' } => "it is temporary",
        { Persistence: 'u' } => "it is unlogged: its changes are not in the log",
        _ => null,
    };

    private string? IdentityReason => this switch
    {
        { Identity: 'n' } => "its replica identity is nothing: changed rows could not be found again; set another with ALTER TABLE ... REPLICA IDENTITY",
        { Key.Count: 0, Identity: 'f', Kind: 'r' } => null,
        { Key.Count: 0 } => "it has no primary key and no replica identity by an index: changed rows could not be found again; with ALTER TABLE ... REPLICA IDENTITY FULL they are found by the whole row",
        _ => null,
    };

    /// <summary>Its form: the columns that cross (generated ones are computed again by the target), and its structure as statements.</summary>
    public TableSchema Schema(UserTypes types)
    {
        var crossing = Columns.Where(column => !column.Generated).ToList();
        var columns = crossing.Select(column => new Column(column.Name, column.Type, !column.NotNull, Key.ToList().IndexOf(column.Name) + 1, column.Default)).ToList();
        var foreignKeys = Constraints.Where(constraint => constraint is { Kind: 'f', References: not null }).Select(constraint => new ForeignKey([], constraint.References!.Value, [])).ToList();
        return new TableSchema(Name, columns, [], foreignKeys) { Parts = Kind is 'r' or 'p' ? [.. PartsOf(types)] : [] };
    }

    private IEnumerable<SchemaPart> PartsOf(UserTypes types)
    {
        yield return new SchemaPart(PartStage.Before, Quote.Name(Name.Schema), $"CREATE SCHEMA IF NOT EXISTS {Quote.Name(Name.Schema)}");
        foreach (var part in Columns.SelectMany(column => types.Needed(column.Type)).Distinct())
        {
            yield return part;
        }

        yield return new SchemaPart(PartStage.Table, Name.Name, CreateTable());
        var table = Quote.Name(Name);
        foreach (var constraint in Constraints.Where(constraint => constraint.Kind is 'p' or 'u' or 'x'))
        {
            var stage = constraint.Kind switch { 'p' => PartStage.PrimaryKey, 'u' => PartStage.Key, _ => PartStage.Index };
            yield return new SchemaPart(stage, constraint.Name, $"ALTER TABLE {table} ADD CONSTRAINT {Quote.Name(constraint.Name)} {constraint.Statement}");
        }

        foreach (var (name, statement) in Indexes)
        {
            yield return new SchemaPart(PartStage.Index, name, statement.Replace(" ON ONLY ", " ON ", StringComparison.Ordinal));
        }

        foreach (var constraint in Constraints.Where(constraint => constraint.Kind == 'f'))
        {
            yield return new SchemaPart(PartStage.Reference, constraint.Name, $"ALTER TABLE {table} ADD CONSTRAINT {Quote.Name(constraint.Name)} {constraint.Statement}", constraint.References);
        }
    }

    /// <summary>
    /// Defaults that call functions, as those of sequences do, are left out: the rows bring their values, and what the
    /// function needs is not on the target.
    /// </summary>
    private string CreateTable()
    {
        var lines = new List<string>();
        foreach (var column in Columns)
        {
            var line = new StringBuilder($"{Quote.Name(column.Name)} {column.Type}");
            line.Append(column.Collation is null ? "" : $" COLLATE {column.Collation}");
            line.Append(column.Generated ? $" GENERATED ALWAYS AS ({column.Default}) STORED" : column.Default is { } value && !value.Contains('(', StringComparison.Ordinal) ? $" DEFAULT {value}" : "");
            line.Append(column.NotNull ? " NOT NULL" : "");
            lines.Add(line.ToString());
        }

        lines.AddRange(Constraints.Where(constraint => constraint.Kind == 'c').Select(constraint => $"CONSTRAINT {Quote.Name(constraint.Name)} {constraint.Statement}"));
        return $"CREATE TABLE {Quote.Name(Name)} (\n  {string.Join(",\n  ", lines)}\n)";
    }
}
