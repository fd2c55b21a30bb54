using Vestige.Core.Alerts;
using Vestige.Web.Api.Describing;

namespace Vestige.Web.Api.Documents;

/// <summary>Something that needs a person.</summary>
public sealed record AlertDocument(
    long Number,
    [property: Choices("raised", "over")] string State,
    [property: Choices(typeof(NeedKind))] string Kind,
    string Crossing,
    string? About,
    IReadOnlyList<string> Tables,
    string What,
    string Costs,
    string? Remedy,
    [property: Time] string Since,
    [property: Time] string RaisedAt,
    [property: Time] string? OverAt,
    string Address,
    string? AcknowledgedBy,
    string? Note,
    IReadOnlyList<string> Told
);
