namespace Vestige.Core.Schemas;

/// <summary>A table's name within one database, spelt exactly as the database has it.</summary>
public readonly record struct TableName(string Schema, string Name) : IComparable<TableName>
{
    /// <summary>
    /// Reads <c>schema.table</c>; the first dot divides, unless the schema stands in quotes, as <see cref="ToText"/> writes one that has a
    /// dot. Throws <see cref="FormatException"/> otherwise.
    /// </summary>
    public static TableName Parse(string text)
    {
        ArgumentNullException.ThrowIfNull(text);
        if (text.StartsWith('"') && EndOfQuoted(text) is > 0 and var end && end < text.Length - 2 && text[end + 1] == '.')
        {
            return new TableName(text[1..end].Replace("\"\"", "\"", StringComparison.Ordinal), text[(end + 2)..]);
        }

        var dot = text.IndexOf('.', StringComparison.Ordinal);
        if (dot <= 0 || dot == text.Length - 1)
        {
            throw new FormatException(
                $"'{(text.Length > 100 ? text[..100] + "..." : text)}' is not a table name. Write it as schema.table."
            );
        }

        return new TableName(text[..dot], text[(dot + 1)..]);
    }

    /// <summary>A text that <see cref="Parse"/> reads back, whatever the names are.</summary>
    public string ToText() =>
        Schema.Contains('.', StringComparison.Ordinal) || Schema.StartsWith('"')
            ? $"\"{Schema.Replace("\"", "\"\"", StringComparison.Ordinal)}\".{Name}"
            : ToString();

    /// <summary>The place of the quote that ends the one at the beginning; -1 when there is none.</summary>
    private static int EndOfQuoted(string text)
    {
        for (var i = 1; i < text.Length; i++)
        {
            if (text[i] == '"')
            {
                if (i + 1 == text.Length || text[i + 1] != '"')
                {
                    return i;
                }

                i++;
            }
        }

        return -1;
    }

    public int CompareTo(TableName other)
    {
        var bySchema = string.CompareOrdinal(Schema, other.Schema);
        return bySchema != 0 ? bySchema : string.CompareOrdinal(Name, other.Name);
    }

    public static bool operator <(TableName left, TableName right) => left.CompareTo(right) < 0;

    public static bool operator >(TableName left, TableName right) => left.CompareTo(right) > 0;

    public static bool operator <=(TableName left, TableName right) => left.CompareTo(right) <= 0;

    public static bool operator >=(TableName left, TableName right) => left.CompareTo(right) >= 0;

    public override string ToString() => $"{Schema}.{Name}";
}
