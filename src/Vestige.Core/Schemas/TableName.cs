namespace Vestige.Core.Schemas;

/// <summary>A table's name within one database, spelt exactly as the database has it.</summary>
public readonly record struct TableName(string Schema, string Name) : IComparable<TableName>
{
    /// <summary>Reads <c>schema.table</c>; the first dot divides. Throws <see cref="FormatException"/> otherwise.</summary>
    public static TableName Parse(string text)
    {
        ArgumentNullException.ThrowIfNull(text);
        var dot = text.IndexOf('.', StringComparison.Ordinal);
        if (dot <= 0 || dot == text.Length - 1)
        {
            throw new FormatException($"'{text}' is not a table name. Write it as schema.table.");
        }

        return new TableName(text[..dot], text[(dot + 1)..]);
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
