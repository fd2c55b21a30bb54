using Vestige.Core.Treatments;

namespace Vestige.Connectors.PostgreSql.Targets;

/// <summary>Writes other names into the lists of columns within a constraint's own words, as pg_get_constraintdef gives them.</summary>
internal static class ListText
{
    /// <summary>The text with the names of its first list in parentheses, from a place on, replaced.</summary>
    public static string Replace(string text, int from, IReadOnlyList<string> names)
    {
        var (open, close) = List(text, from);
        return $"{text[..(open + 1)]}{Quote.Names(names)}{text[close..]}";
    }

    /// <summary>A foreign key's text with other columns, another table and its columns.</summary>
    public static string ReplaceReference(string text, KeptReference kept)
    {
        var (open, close) = List(text, 0);
        var references = text.IndexOf(" REFERENCES ", close, StringComparison.Ordinal);
        var (_, end) = List(text, references);
        return $"{text[..(open + 1)]}{Quote.Names(kept.Columns)}) REFERENCES "
            + $"{Quote.Name(kept.References)}({Quote.Names(kept.ReferencedColumns)}{text[end..]}";
    }

    /// <summary>The parentheses of the first list from a place on; what stands in double quotes does not count.</summary>
    private static (int Open, int Close) List(string text, int from)
    {
        var (open, quoted) = (-1, false);
        for (var i = from; i < text.Length; i++)
        {
            quoted ^= text[i] == '"';
            if (!quoted && text[i] == '(' && open < 0)
            {
                open = i;
            }
            else if (!quoted && text[i] == ')' && open >= 0)
            {
                return (open, i);
            }
        }

        throw new FormatException("The constraint has no list of columns.");
    }
}
