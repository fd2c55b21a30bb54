using System.Text.Json.Serialization;

namespace Vestige.Core.Crossings;

/// <summary>How the tables that a pattern matches are applied.</summary>
/// <param name="Tables">The pattern; <c>*</c> stands for any characters of <c>schema.table</c>.</param>
/// <param name="As">The manner.</param>
/// <param name="DeletedAt">With <see cref="ApplyMode.KeepDeleted"/>: the name of the column that gets the time; null for <c>deleted_at</c>.</param>
public sealed record ApplyRule(
    string Tables,
    ApplyMode As,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] string? DeletedAt = null)
{
    public const string DefaultDeletedAt = "deleted_at";

    [JsonIgnore]
    public string DeletedAtColumn => DeletedAt ?? DefaultDeletedAt;
}
