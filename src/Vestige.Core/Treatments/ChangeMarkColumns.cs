using System.Text.Json.Serialization;

namespace Vestige.Core.Treatments;

/// <summary>New columns that say how a row came to be as it is. Either may be null.</summary>
/// <param name="Operation">Gets <c>load</c>, <c>insert</c>, <c>update</c> or <c>delete</c>.</param>
/// <param name="CommittedAt">Gets the source's commit time; NULL for rows of a load.</param>
public sealed record ChangeMarkColumns(
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] string? Operation = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] string? CommittedAt = null
);
