using System.Text.Json.Serialization;
using Vestige.Core.Schemas;

namespace Vestige.Core.Crossings;

/// <summary>
/// What tables are called on the target. A table named by itself gets that name and nothing else; of all others the schema is
/// led to another, the name gets what stands before and after it, and then the case is changed.
/// </summary>
/// <param name="Schemas">Schema by schema.</param>
/// <param name="Into">One schema for all that <paramref name="Schemas"/> does not name.</param>
/// <param name="SchemaAsPrefix">The source's schema and an underscore stand before the name, so that many schemas fit into one.</param>
/// <param name="Prefix">Stands before the name, and before the schema's where that stands there.</param>
/// <param name="Suffix">Stands behind the name.</param>
/// <param name="Case">Of schemas, tables and columns.</param>
/// <param name="Tables">Tables with a name of their own.</param>
public sealed record Naming(
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] IReadOnlyList<NameOfSchema>? Schemas = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] string? Into = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)] bool SchemaAsPrefix = false,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] string? Prefix = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] string? Suffix = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)] LetterCase Case = LetterCase.AsIs,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] IReadOnlyList<NameOfTable>? Tables = null
)
{
    /// <summary>The name of a table on the target.</summary>
    /// <param name="source">The source's table.</param>
    /// <param name="kept">The name it would have without any of this.</param>
    public TableName NameFor(TableName source, TableName kept)
    {
        var own = source.ToString();
        if (Tables?.FirstOrDefault(name => name.Table == own) is { } named)
        {
            return TableName.Parse(named.To);
        }

        var schema = Schemas?.FirstOrDefault(name => name.Schema == source.Schema)?.To ?? Into ?? kept.Schema;
        var table = $"{Prefix}{(SchemaAsPrefix ? $"{source.Schema}_" : "")}{kept.Name}{Suffix}";
        return new TableName(Cased(schema), Cased(table));
    }

    /// <summary>A name with the case that is wanted.</summary>
    public string Cased(string name) =>
        Case switch
        {
            LetterCase.Lower => name.ToLowerInvariant(),
            LetterCase.Upper => name.ToUpperInvariant(),
            _ => name,
        };
}
