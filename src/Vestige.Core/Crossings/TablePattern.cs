using Vestige.Core.Text;

namespace Vestige.Core.Crossings;

/// <summary>The patterns of table rules.</summary>
public static class TablePattern
{
    private const char Any = '*';
    private const char None = '\0';

    /// <summary>Whether it may match more than one name; else it is a name.</summary>
    public static bool IsPattern(string text) => text?.Contains(Any, StringComparison.Ordinal) == true;

    /// <summary>Whether a pattern matches the whole of a text, letter case included; <c>*</c> stands for any characters.</summary>
    public static bool Matches(ReadOnlySpan<char> pattern, ReadOnlySpan<char> text) => Wildcards.Matches(pattern, text, Any, None);
}
