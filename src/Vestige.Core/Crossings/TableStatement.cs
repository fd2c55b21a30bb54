namespace Vestige.Core.Crossings;

/// <summary>A statement of a person's own that makes a table of the target, instead of the one that would be run.</summary>
/// <param name="Table">The target's table, as <c>schema.table</c>.</param>
/// <param name="Run">The statement, in the target's own words. It makes that table, and what it makes has the wanted columns.</param>
public sealed record TableStatement(string Table, string Run)
{
    /// <summary>
    /// What keeps it from standing instead of another; null when nothing does. It is one statement that begins as the other
    /// does, up to the list of columns; an unlogged table may be made instead of a logged one.
    /// </summary>
    /// <param name="instead">The statement that would be run.</param>
    public string? DifferenceTo(string instead)
    {
        ArgumentNullException.ThrowIfNull(instead);
        var head = instead[..(instead.IndexOf("(\n", StringComparison.Ordinal) + 1)];
        var own = Run.TrimStart();
        if (
            !own.StartsWith(head, StringComparison.Ordinal)
            && !own.StartsWith(head.Replace("CREATE TABLE", "CREATE UNLOGGED TABLE", StringComparison.Ordinal), StringComparison.Ordinal)
        )
        {
            return $"it does not begin with {head}";
        }

        return EndsBefore(own.TrimEnd().TrimEnd(';')) ? "it holds more than one statement" : null;
    }

    /// <summary>Whether a semicolon stands outside of quotes.</summary>
    private static bool EndsBefore(string text)
    {
        var quote = '\0';
        foreach (var c in text)
        {
            if (quote == '\0' && c == ';')
            {
                return true;
            }

            quote =
                quote == c ? '\0'
                : quote == '\0' && (c is '\'' or '"') ? c
                : quote;
        }

        return false;
    }
}
