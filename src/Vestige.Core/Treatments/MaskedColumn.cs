using System.Text.Json.Serialization;

namespace Vestige.Core.Treatments;

/// <summary>A column whose values must not be seen on the target.</summary>
/// <param name="Column">The column.</param>
/// <param name="By">The way.</param>
/// <param name="Value">For <see cref="MaskMethod.Fixed"/>: the text that stands in every row.</param>
/// <param name="Last">For <see cref="MaskMethod.KeepLast"/>: how many characters stay.</param>
/// <param name="Days">For <see cref="MaskMethod.ShiftDate"/>: by how many days at most, either way.</param>
/// <param name="Along">
/// For <see cref="MaskMethod.ShiftDate"/>: rows with an equal value here are shifted by equal days; null for the key.
/// </param>
/// <param name="Kind">For <see cref="MaskMethod.Pseudonym"/>: what is made up.</param>
/// <param name="Key">The name of the key; null for <c>default</c>. Equal values give equal results under one key, in every table.</param>
public sealed record MaskedColumn(
    string Column,
    MaskMethod By,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] string? Value = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] int? Last = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] int? Days = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] string? Along = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] PseudonymKind? Kind = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] string? Key = null
)
{
    public const string DefaultKey = "default";

    [JsonIgnore]
    public string KeyName => Key ?? DefaultKey;
}
