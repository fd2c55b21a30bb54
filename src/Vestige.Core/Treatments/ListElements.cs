using System.Text;
using Vestige.Core.Expressions;

namespace Vestige.Core.Treatments;

/// <summary>
/// The elements of a list in its text form, <c>{a,"b c",NULL}</c> (PostgreSQL manual, section 8.15.6, Array Input and Output
/// Syntax). Only lists of one dimension are taken apart.
/// </summary>
public static class ListElements
{
    /// <summary>
    /// The text of each element, null for NULL. Throws <see cref="EvaluationException"/> when it is none, or has more dimensions.
    /// </summary>
    public static IReadOnlyList<string?> Read(string text)
    {
        ArgumentNullException.ThrowIfNull(text);

        // Bounds other than 1 stand before: [2:4]={...}
        var at = text.StartsWith('[') ? text.IndexOf('{', StringComparison.Ordinal) : 0;
        if (at < 0 || text.Length < at + 2 || text[at] != '{' || text[^1] != '}')
        {
            throw new EvaluationException("the value is not a list");
        }

        var elements = new List<string?>();
        var end = text.Length - 1;
        for (at++; at < end; at++)
        {
            elements.Add(
                text[at] switch
                {
                    '{' => throw new EvaluationException("the list has more than one dimension"),
                    '"' => Quoted(text, ref at, end),
                    _ => Bare(text, ref at, end),
                }
            );
            if (at < end && text[at] != ',')
            {
                throw new EvaluationException("the value is not a list");
            }
        }

        return elements;
    }

    private static string Quoted(string text, ref int at, int end)
    {
        var element = new StringBuilder();
        for (at++; at < end && text[at] != '"'; at++)
        {
            at += text[at] == '\\' ? 1 : 0;
            element.Append(text[at]);
        }

        at++;
        return element.ToString();
    }

    private static string? Bare(string text, ref int at, int end)
    {
        var element = new StringBuilder();
        for (; at < end && text[at] != ','; at++)
        {
            at += text[at] == '\\' ? 1 : 0;
            element.Append(text[at]);
        }

        var bare = element.ToString();
        return bare == "NULL" ? null : bare;
    }
}
