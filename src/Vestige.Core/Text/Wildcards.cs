namespace Vestige.Core.Text;

/// <summary>Patterns in which one sign stands for any others.</summary>
public static class Wildcards
{
    /// <summary>Whether a pattern matches the whole of a text; without recursion, so that no pattern takes long.</summary>
    /// <param name="pattern">The pattern.</param>
    /// <param name="text">The text.</param>
    /// <param name="any">Stands for any signs, none among them.</param>
    /// <param name="one">Stands for one sign.</param>
    public static bool Matches<T>(ReadOnlySpan<T> pattern, ReadOnlySpan<T> text, T any, T one)
        where T : struct, IEquatable<T>
    {
        int p = 0,
            t = 0,
            star = -1,
            mark = 0;
        while (t < text.Length)
        {
            if (p < pattern.Length && pattern[p].Equals(any))
            {
                star = p++;
                mark = t;
            }
            else if (p < pattern.Length && (pattern[p].Equals(text[t]) || pattern[p].Equals(one)))
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

        while (p < pattern.Length && pattern[p].Equals(any))
        {
            p++;
        }

        return p == pattern.Length;
    }
}
