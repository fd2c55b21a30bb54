using System.Text;
using Vestige.Core.Schemas;

namespace Vestige.Connectors.PostgreSql.Catalogue;

/// <summary>The statement that makes a table.</summary>
internal static class CreateTableStatement
{
    public static string Of(TableName name, IEnumerable<string> lines) =>
        $"CREATE TABLE {Quote.Name(name)} (\n  {string.Join(",\n  ", lines)}\n)";

    /// <summary>
    /// One column. Defaults that call functions, as those of sequences do, are left out: the rows bring their values, and what
    /// the function needs is not on the target.
    /// </summary>
    public static string Line(string name, string type, string? collation, string? value, string? computed, bool notNull)
    {
        var line = new StringBuilder($"{Quote.Name(name)} {type}");
        line.Append(collation is null ? "" : $" COLLATE {collation}");
        line.Append(
            computed is not null ? $" GENERATED ALWAYS AS ({computed}) STORED"
            : value is not null && !value.Contains('(', StringComparison.Ordinal) ? $" DEFAULT {value}"
            : ""
        );
        line.Append(notNull ? " NOT NULL" : "");
        return line.ToString();
    }
}
