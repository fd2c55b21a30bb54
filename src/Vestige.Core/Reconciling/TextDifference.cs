namespace Vestige.Core.Reconciling;

/// <summary>Where two texts differ, in characters as a person counts them.</summary>
public static class TextDifference
{
    private const int MostCompared = 400;

    /// <summary>
    /// Both texts in pieces, each the same on both sides or not: by their longest common subsequence within what is left between a
    /// common beginning and a common end; what is left of very long texts is one piece.
    /// </summary>
    public static (IReadOnlyList<(string Text, bool Differs)> Left, IReadOnlyList<(string Text, bool Differs)> Right) Of(
        string left,
        string right
    )
    {
        ArgumentNullException.ThrowIfNull(left);
        ArgumentNullException.ThrowIfNull(right);
        var (one, other) = (Characters(left), Characters(right));
        var first = 0;
        while (first < one.Count && first < other.Count && one[first] == other[first])
        {
            first++;
        }

        var last = 0;
        while (last < one.Count - first && last < other.Count - first && one[^(last + 1)] == other[^(last + 1)])
        {
            last++;
        }

        var (kept, keptThere) = Kept(one[first..^last], other[first..^last]);
        return (Pieces(one, first, last, kept), Pieces(other, first, last, keptThere));
    }

    private static List<string> Characters(string text)
    {
        var characters = new List<string>();
        for (var elements = System.Globalization.StringInfo.GetTextElementEnumerator(text); elements.MoveNext();)
        {
            characters.Add(elements.GetTextElement());
        }

        return characters;
    }

    /// <summary>Which characters of the middle belong to the longest common subsequence.</summary>
    private static (bool[] One, bool[] Other) Kept(List<string> one, List<string> other)
    {
        var (kept, keptThere) = (new bool[one.Count], new bool[other.Count]);
        if (one.Count > MostCompared || other.Count > MostCompared)
        {
            return (kept, keptThere);
        }

        var lengths = new int[one.Count + 1, other.Count + 1];
        for (var i = one.Count - 1; i >= 0; i--)
        {
            for (var j = other.Count - 1; j >= 0; j--)
            {
                lengths[i, j] = one[i] == other[j] ? lengths[i + 1, j + 1] + 1 : Math.Max(lengths[i + 1, j], lengths[i, j + 1]);
            }
        }

        for (int i = 0, j = 0; i < one.Count && j < other.Count;)
        {
            if (one[i] == other[j])
            {
                (kept[i++], keptThere[j++]) = (true, true);
            }
            else if (lengths[i + 1, j] >= lengths[i, j + 1])
            {
                i++;
            }
            else
            {
                j++;
            }
        }

        return (kept, keptThere);
    }

    private static List<(string Text, bool Differs)> Pieces(List<string> characters, int first, int last, bool[] kept)
    {
        var pieces = new List<(string Text, bool Differs)>();
        for (var i = 0; i < characters.Count; i++)
        {
            var differs = i >= first && i < characters.Count - last && !kept[i - first];
            if (pieces.Count > 0 && pieces[^1].Differs == differs)
            {
                pieces[^1] = (pieces[^1].Text + characters[i], differs);
            }
            else
            {
                pieces.Add((characters[i], differs));
            }
        }

        return pieces;
    }
}
