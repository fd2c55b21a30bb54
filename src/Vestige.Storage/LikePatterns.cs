namespace Vestige.Storage;

/// <summary>Patterns of LIKE, with a backslash as the escape character.</summary>
public static class LikePatterns
{
    /// <summary>What contains a text, whatever its characters; null for no text.</summary>
    public static string? Containing(string? text) =>
        string.IsNullOrEmpty(text)
            ? null
            : $"%{text
                .Replace("\\", "\\\\", StringComparison.Ordinal)
                .Replace("%", "\\%", StringComparison.Ordinal)
                .Replace("_", "\\_", StringComparison.Ordinal)}%";
}
