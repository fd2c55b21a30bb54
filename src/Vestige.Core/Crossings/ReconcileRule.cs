using System.Text.Json.Serialization;
using Vestige.Core.Text;

namespace Vestige.Core.Crossings;

/// <summary>How both sides of a crossing are compared without being asked, while it runs.</summary>
/// <param name="Every">
/// Within how many seconds every table is to be proved equal again, table by table; at least 60. Null for not so.
/// </param>
/// <param name="RowsPerSecond">
/// For that, how many rows are read a second at most, both sides together; at least 100. Null for no such limit.
/// </param>
/// <param name="Share">
/// For that, the share of the time, above 0 to 100 %, in which it reads, that of both sides counted together; they are left alone for the
/// rest. Null for no such limit.
/// </param>
/// <param name="Cron">
/// When everything is compared at once, without a limit: five fields, or six with seconds first. Null for not so.
/// </param>
/// <param name="Zone">The time zone of those times, by its IANA name.</param>
public sealed record ReconcileRule(
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] double? Every = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] double? RowsPerSecond = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] double? Share = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] string? Cron = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)] string? Zone = null
)
{
    /// <summary>The times as a schedule; null where there are none.</summary>
    [JsonIgnore]
    public RunSchedule? Times => Cron is null ? null : new RunSchedule(Cron, Zone: Zone ?? "UTC");

    /// <summary>In words.</summary>
    [JsonIgnore]
    public string Words =>
        string.Join(
            "; ",
            new[]
            {
                Every is { } seconds
                    ? $"every table within {Figures.Duration(TimeSpan.FromSeconds(seconds))}"
                        + (RowsPerSecond is { } rows ? $", at most {Figures.Rate(rows)} rows a second" : "")
                        + (Share is { } share ? FormattableString.Invariant($", at most {share:0.##} % of the time") : "")
                    : null,
                Times is { } times ? $"all at once {times.Words}" : null,
            }.OfType<string>()
        );
}
