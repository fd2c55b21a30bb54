using System.Text.Json.Serialization;

namespace Vestige.Core.Crossings;

/// <summary>
/// How many rows that the target refuses may wait in quarantine while the crossing continues. Both limits hold where both are
/// given. Without a rule the crossing stops at the first.
/// </summary>
/// <param name="Rows">Rows that may wait, at least 1; null for no such limit.</param>
/// <param name="Percent">
/// The share of the changes of the last hour that waiting rows may be, above 0 to 100; one row may always wait. Null for no such limit.
/// </param>
public sealed record QuarantineRule(
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] int? Rows = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] decimal? Percent = null
)
{
    /// <summary>However wide the rule is, so many changes wait at most: they are held in memory.</summary>
    public const int MostChanges = 100_000;

    /// <summary>Whether so many rows may wait.</summary>
    /// <param name="waiting">Rows that would wait, the one in question included.</param>
    /// <param name="changes">Changes applied within the last hour.</param>
    public bool Allows(long waiting, long changes) =>
        (Rows is null || waiting <= Rows) && (Percent is null || waiting <= 1 || waiting * 100m <= Percent * changes);

    /// <summary>The rule in words, after "sets aside".</summary>
    [JsonIgnore]
    public string Words =>
        (Rows, Percent) switch
        {
            ({ } rows, null) => $"up to {Text.Figures.Of(rows, "row")}",
            (null, { } percent) => FormattableString.Invariant($"up to {percent:0.####} % of the changes of an hour"),
            ({ } rows, { } percent) => FormattableString.Invariant(
                $"up to {Text.Figures.Of(rows, "row")} and {percent:0.####} % of the changes of an hour"
            ),
            _ => "nothing",
        };
}
