using Vestige.Core.Text;

namespace Vestige.Core.Crossings;

/// <summary>The patterns of table rules.</summary>
public static class TablePattern
{
    private const char None = '\0';

    /// <summary>Whether a pattern matches the whole of a text, letter case included; <c>*</c> stands for any characters.</summary>
    public static bool Matches(ReadOnlySpan<char> pattern, ReadOnlySpan<char> text) => Wildcards.Matches(pattern, text, '*', None);
}
