using System.Text.RegularExpressions;

namespace Vestige.Connectors.StandIn;

/// <summary>Recognises statements that rewrite or drop a table, whose rows then change without any row statement.</summary>
internal static partial class SchemaStatement
{
    /// <summary>The table that an ALTER TABLE or DROP TABLE is about, without its quotes; null for other statements.</summary>
    public static string? TableOf(string sql)
    {
        var match = Pattern().Match(sql);
        if (!match.Success)
        {
            return null;
        }

        var name = match.Groups["name"].Value;
        return name[0] is '"' or '`' or '[' ? name[1..^1].Replace("\"\"", "\"", StringComparison.Ordinal) : name;
    }

    [GeneratedRegex(
        """^(?:\s|--[^\n]*\n|/\*.*?\*/)*(?:ALTER\s+TABLE|DROP\s+TABLE(?:\s+IF\s+EXISTS)?)\s+"""
            + """(?:(?:main|"main")\s*\.\s*)?(?<name>"(?:[^"]|"")+"|`[^`]+`|\[[^\]]+\]|\w+)""",
        RegexOptions.IgnoreCase | RegexOptions.Singleline | RegexOptions.CultureInvariant,
        matchTimeoutMilliseconds: 1000
    )]
    private static partial Regex Pattern();
}
