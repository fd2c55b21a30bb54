using System.Text.Json.Serialization;

namespace Vestige.Core.Treatments;

/// <summary>A column whose value is reckoned from its row; a constant is an expression without columns.</summary>
/// <param name="Column">Its name on the target; a column of that name is replaced.</param>
/// <param name="As">The expression.</param>
/// <param name="Type">Its type in the target's own words; null for the one that goes with the expression.</param>
/// <param name="AllowLoss">Values may be changed by that type, for example rounded; without it such a type is refused.</param>
public sealed record ComputedColumn(
    string Column,
    string As,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] string? Type = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)] bool AllowLoss = false
);
