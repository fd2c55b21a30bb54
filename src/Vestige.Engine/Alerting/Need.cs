using System.Text.Json.Serialization;
using Vestige.Core.Alerts;

namespace Vestige.Engine.Alerting;

/// <summary>Something that a person may have to see to, as it is at one moment.</summary>
/// <param name="Kind">What it is.</param>
/// <param name="Crossing">The crossing; for something about a source, one of those that read it.</param>
/// <param name="About">The connection; null where it is about the crossing or some of its tables.</param>
/// <param name="What">What happened, in a sentence.</param>
/// <param name="Costs">What it costs while it stands.</param>
/// <param name="Remedy">What helps; null when there is nothing but to wait.</param>
/// <param name="Time">How far behind, or in how long it is lost, where that decides.</param>
/// <param name="Tables">The source tables concerned, as schema.table; null where it is not about tables.</param>
public sealed record Need(
    NeedKind Kind,
    string Crossing,
    string? About,
    string What,
    string Costs,
    [property: JsonPropertyName("Mend")] string? Remedy = null,
    TimeSpan? Time = null,
    IReadOnlyList<string>? Tables = null
)
{
    /// <summary>The same for the same thing at another moment, whichever tables it concerns then.</summary>
    public string Id => $"{Kind}/{Crossing}/{About}";
}
