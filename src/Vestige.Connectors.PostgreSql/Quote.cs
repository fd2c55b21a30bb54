using Vestige.Core.Schemas;

namespace Vestige.Connectors.PostgreSql;

/// <summary>Names and texts inside statements, by the server's own rules (PostgreSQL manual, Lexical Structure).</summary>
internal static class Quote
{
    public static string Name(string name) => $"\"{name.Replace("\"", "\"\"", StringComparison.Ordinal)}\"";

    public static string Name(TableName table) => $"{Name(table.Schema)}.{Name(table.Name)}";

    public static string Names(IEnumerable<string> names) => string.Join(", ", names.Select(Name));

    /// <summary>A text as a literal; only for places where the server takes no parameters, with standard_conforming_strings on.</summary>
    public static string Literal(string text) => $"'{text.Replace("'", "''", StringComparison.Ordinal)}'";
}
