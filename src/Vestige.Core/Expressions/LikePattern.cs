using Vestige.Core.Text;

namespace Vestige.Core.Expressions;

/// <summary>LIKE: <c>%</c> stands for any characters, <c>_</c> for one, a backslash takes the next as it is.</summary>
internal static class LikePattern
{
    private const int Any = -1;
    private const int One = -2;

    /// <summary>
    /// Cuts a pattern into code points and the two signs. Throws <see cref="EvaluationException"/> when it ends in a backslash.
    /// </summary>
    public static int[] Cut(string pattern)
    {
        var parts = new List<int>();
        var taken = false;
        foreach (var rune in pattern.EnumerateRunes())
        {
            if (!taken && rune.Value == '\\')
            {
                taken = true;
                continue;
            }

            parts.Add(
                taken
                    ? rune.Value
                    : rune.Value switch
                    {
                        '%' => Any,
                        '_' => One,
                        _ => rune.Value,
                    }
            );
            taken = false;
        }

        return taken ? throw new EvaluationException("the pattern of LIKE ends in a backslash") : [.. parts];
    }

    public static bool Matches(string text, int[] pattern)
    {
        int[] points = [.. text.EnumerateRunes().Select(rune => rune.Value)];
        return Wildcards.Matches<int>(pattern, points, Any, One);
    }
}
