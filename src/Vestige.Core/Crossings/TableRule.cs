namespace Vestige.Core.Crossings;

/// <summary>One line of the table rules: exactly one of the two patterns is set. <c>*</c> stands for any characters.</summary>
public sealed record TableRule(string? Take = null, string? Leave = null)
{
    public string Pattern => Take ?? Leave ?? "";

    /// <summary>Matches the whole of <paramref name="name"/> (<c>schema.table</c>), letter case included.</summary>
    public bool Matches(string name) => Matches(Pattern.AsSpan(), name.AsSpan());

    private static bool Matches(ReadOnlySpan<char> pattern, ReadOnlySpan<char> text)
    {
        int p = 0, t = 0, star = -1, mark = 0;
        while (t < text.Length)
        {
            if (p < pattern.Length && pattern[p] == '*')
            {
                star = p++;
                mark = t;
            }
            else if (p < pattern.Length && pattern[p] == text[t])
            {
                p++;
                t++;
            }
            else if (star >= 0)
            {
                p = star + 1;
                t = ++mark;
            }
            else
            {
                return false;
            }
        }

        while (p < pattern.Length && pattern[p] == '*')
        {
            p++;
        }

        return p == pattern.Length;
    }
}
