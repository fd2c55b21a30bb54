namespace Vestige.Connectors.StandIn.Native;

/// <summary>SQLite's rule for identifiers: double quotes, doubled inside (sqlite.org, "SQLite Keywords").</summary>
internal static class Quote
{
    public static string Name(string identifier) => $"\"{identifier.Replace("\"", "\"\"", StringComparison.Ordinal)}\"";

    public static string Names(IEnumerable<string> identifiers) => string.Join(", ", identifiers.Select(Name));
}
