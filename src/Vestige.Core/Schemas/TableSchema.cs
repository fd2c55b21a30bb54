using System.Text.Json.Serialization;

namespace Vestige.Core.Schemas;

/// <summary>The form of one table at one moment of its history. Immutable.</summary>
public sealed record TableSchema(
    TableName Name,
    IReadOnlyList<Column> Columns,
    IReadOnlyList<UniqueKey> UniqueKeys,
    IReadOnlyList<ForeignKey> ForeignKeys
)
{
    private Tuple<IReadOnlyList<Column>, int[]>? keys;

    /// <summary>What belongs to the table beside its columns, in its engine's own statements; empty where it was not read.</summary>
    [JsonPropertyName("Parts")]
    public IReadOnlyList<SchemaObject> Objects { get; init; } = [];

    /// <summary>
    /// Tells this table, with these columns, from every other that had or will have its name: another after it was dropped and
    /// created again, and after every change of its columns or its key. What stands before its first dot tells the table alone, and stays
    /// the same while that does. Null where the database does not tell them apart.
    /// </summary>
    public string? Incarnation { get; init; }

    /// <summary>
    /// Whether another schema is of the same table, and not of one that was dropped and created again under its name: numbers of columns
    /// begin anew then. Where the database does not tell that, it is not known to be another.
    /// </summary>
    public bool IsOfSameTable(TableSchema other)
    {
        ArgumentNullException.ThrowIfNull(other);
        return NumberIn(Incarnation) == NumberIn(other.Incarnation);

        static string? NumberIn(string? incarnation) => incarnation?.Split('.')[0];
    }

    /// <summary>
    /// Another whenever the rows may have got other values without a change of a row in the log, as by a conversion of a column. It
    /// may change without that. Null with <see cref="Incarnation"/>.
    /// </summary>
    public string? Stamp { get; init; }

    /// <summary>
    /// Of two forms of one table the earlier has the lower number, where the source tells that; both have the same where it does not.
    /// </summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)]
    public int Generation { get; init; }

    /// <summary>The statement that makes it, where a person has written one; null for the engine's own.</summary>
    public string? Statement { get; init; }

    /// <summary>The rows of it that one source's table goes into, where others go into the same; null where all are of one.</summary>
    public SharedRows? Shared { get; init; }

    /// <summary>Indexes into <see cref="Columns"/> in primary key order; empty for a table without a key.</summary>
    public IReadOnlyList<int> KeyOrdinals
    {
        get
        {
            // A copy with other columns takes the fields over, this one too.
            // One reference, so that several threads may come here at once.
            var known = keys;
            if (known is null || !ReferenceEquals(known.Item1, Columns))
            {
                int[] ordinals =
                [
                    .. Columns
                        .Select((column, index) => (column, index))
                        .Where(pair => pair.column.KeyOrdinal > 0)
                        .OrderBy(pair => pair.column.KeyOrdinal)
                        .Select(pair => pair.index),
                ];
                keys = known = Tuple.Create(Columns, ordinals);
            }

            return known.Item2;
        }
    }

    public bool HasKey => KeyOrdinals.Count > 0;

    /// <summary>The index of the column of that exact name, or -1.</summary>
    public int IndexOf(string column)
    {
        for (var i = 0; i < Columns.Count; i++)
        {
            if (Columns[i].Name == column)
            {
                return i;
            }
        }

        return -1;
    }

    /// <summary>
    /// True when rows of the one can be written into the other as they are: same columns in the same order with the same
    /// types, and the same key. Defaults and references do not matter for that.
    /// </summary>
    public bool SameForm(TableSchema other)
    {
        ArgumentNullException.ThrowIfNull(other);
        return Columns.Count == other.Columns.Count && Columns.Zip(other.Columns).All(pair => SameForm(pair.First, pair.Second));
    }

    /// <summary>What keeps <see cref="SameForm(TableSchema)"/> from holding, in words; null when it holds.</summary>
    public string? DifferenceTo(TableSchema other)
    {
        ArgumentNullException.ThrowIfNull(other);
        foreach (var column in Columns)
        {
            var there = other.Columns.FirstOrDefault(candidate => candidate.Name == column.Name);
            if (there is null)
            {
                return $"column {column.Name} is missing there";
            }

            if (!string.Equals(there.Type, column.Type, StringComparison.OrdinalIgnoreCase))
            {
                return $"column {column.Name} is {Typed(column)} here and {Typed(there)} there";
            }

            if (there.KeyOrdinal != column.KeyOrdinal)
            {
                return $"column {column.Name} has another place in the target's key";
            }

            if (there.Nullable != column.Nullable)
            {
                return $"column {column.Name} takes NULL on one side only";
            }
        }

        var extra = other.Columns.FirstOrDefault(column => IndexOf(column.Name) < 0);
        return extra is not null ? $"column {extra.Name} exists only there"
            : SameForm(other) ? null
            : "the target has its columns in another order";
    }

    private static string Typed(Column column) => column.Type.Length == 0 ? "of no type" : column.Type;

    private static bool SameForm(Column left, Column right) =>
        left.Name == right.Name
        && string.Equals(left.Type, right.Type, StringComparison.OrdinalIgnoreCase)
        && left.KeyOrdinal == right.KeyOrdinal
        && left.Nullable == right.Nullable;
}
