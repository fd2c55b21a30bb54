using System.Text.Json.Serialization;

namespace Vestige.Core.Crossings;

/// <summary>How the tables that a pattern matches are applied.</summary>
/// <param name="Tables">The pattern; <c>*</c> stands for any characters of <c>schema.table</c>.</param>
/// <param name="As">The way.</param>
/// <param name="DeletedAt">
/// With <see cref="ApplyMode.KeepDeleted"/>: the name of the column that gets the time; null for <c>deleted_at</c>.
/// </param>
/// <param name="ValidFrom">
/// With <see cref="ApplyMode.KeepVersions"/>: the column with the commit time since which it holds, NULL for rows of a load; null for
/// <c>valid_from</c>.
/// </param>
/// <param name="ValidTo">
/// The column with the commit time up to which it held, infinity for the present one; null for <c>valid_to</c>.
/// </param>
public sealed record ApplyRule(
    string Tables,
    ApplyMode As,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] string? DeletedAt = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] string? ValidFrom = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] string? ValidTo = null
)
{
    public const string DefaultDeletedAt = "deleted_at";

    public const string DefaultValidFrom = "valid_from";

    public const string DefaultValidTo = "valid_to";

    [JsonIgnore]
    public string ValidFromColumn => ValidFrom ?? DefaultValidFrom;

    [JsonIgnore]
    public string ValidToColumn => ValidTo ?? DefaultValidTo;

    [JsonIgnore]
    public string DeletedAtColumn => DeletedAt ?? DefaultDeletedAt;
}
