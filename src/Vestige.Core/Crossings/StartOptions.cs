using System.Text.Json.Serialization;

namespace Vestige.Core.Crossings;

/// <summary>How a crossing begins.</summary>
/// <param name="Existing">What target tables that are there already mean.</param>
/// <param name="Kind">What it carries.</param>
/// <param name="Tables">What they mean for some tables: the last rule that matches decides.</param>
/// <param name="Accept">
/// Readiness lines, by name, that a person has accepted although they do not hold; only those that say that they may be.
/// </param>
/// <param name="From">Where only changes cross: from where on; null for now.</param>
/// <param name="AsOf">Where rows cross once: as they were at which place in the past; null for as they are.</param>
public sealed record StartOptions(
    ExistingRows Existing = ExistingRows.Refuse,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)] StartKind Kind = StartKind.RowsThenChanges,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] IReadOnlyList<ExistingRule>? Tables = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] IReadOnlyList<string>? Accept = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] StartPlace? From = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] StartPlace? AsOf = null
);
