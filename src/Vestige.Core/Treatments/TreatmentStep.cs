using System.Text.Json.Serialization;

namespace Vestige.Core.Treatments;

/// <summary>
/// One step of what happens to rows on the way, for the tables that a pattern matches. Exactly one of the other fields is set.
/// Steps take effect from top to bottom, each on what the ones before made.
/// </summary>
/// <param name="Tables">The source's tables; <c>*</c> stands for any characters of <c>schema.table</c>.</param>
/// <param name="Keep">A condition: rows for which it is not true are left out.</param>
/// <param name="LeaveOut">Columns that do not cross.</param>
/// <param name="Rename">Columns that get another name.</param>
/// <param name="Convert">Columns that get another type.</param>
/// <param name="Compute">Columns whose value is reckoned: new ones, or others instead of what is there.</param>
/// <param name="Mask">Columns whose values must not be seen on the target.</param>
/// <param name="Split">Several target tables instead of one: a row goes to the first whose condition is true.</param>
/// <param name="Combine">One target table together with other tables of equal form.</param>
/// <param name="Children">Tables that get a row for each element of a column that repeats.</param>
/// <param name="Key">The columns that a message of a row is keyed by, for targets that take messages.</param>
/// <param name="Marks">Columns that say by what and when a row was last changed.</param>
public sealed record TreatmentStep(
    string Tables,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] string? Keep = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] IReadOnlyList<string>? LeaveOut = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] IReadOnlyList<RenamedColumn>? Rename = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] IReadOnlyList<ConvertedColumn>? Convert = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] IReadOnlyList<ComputedColumn>? Compute = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] IReadOnlyList<MaskedColumn>? Mask = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] IReadOnlyList<SplitTable>? Split = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] ChangeMarkColumns? Marks = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] CombinedTable? Combine = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] IReadOnlyList<ChildRows>? Children = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] IReadOnlyList<string>? Key = null
)
{
    /// <summary>The lists that are set, with their names.</summary>
    [JsonIgnore]
    internal IReadOnlyList<(string Name, IEnumerable<object?> Items)> Lists =>
        [
            ("leaveOut", LeaveOut ?? []),
            ("rename", Rename ?? []),
            ("convert", Convert ?? []),
            ("compute", Compute ?? []),
            ("mask", Mask ?? []),
            ("split", Split ?? []),
            ("children", Children ?? []),
            ("key", Key ?? []),
        ];

    /// <summary>The names of the fields that say what the step does, and whether each is set.</summary>
    [JsonIgnore]
    public IReadOnlyList<(string Name, bool IsSet)> Kinds =>
        [
            ("keep", Keep is not null),
            ("leaveOut", LeaveOut is not null),
            ("rename", Rename is not null),
            ("convert", Convert is not null),
            ("compute", Compute is not null),
            ("mask", Mask is not null),
            ("split", Split is not null),
            ("marks", Marks is not null),
            ("combine", Combine is not null),
            ("children", Children is not null),
            ("key", Key is not null),
        ];
}
