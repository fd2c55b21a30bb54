using System.Text.Json.Serialization;

namespace Vestige.Core.Treatments;

/// <summary>A column and the type it gets on the target.</summary>
/// <param name="Column">The column.</param>
/// <param name="To">The type in the target's own words.</param>
/// <param name="AllowLoss">
/// Values may be changed by it (rounded, cut to a day, moved to another zone); without it such a type is refused.
/// </param>
public sealed record ConvertedColumn(
    string Column,
    string To,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)] bool AllowLoss = false
);
