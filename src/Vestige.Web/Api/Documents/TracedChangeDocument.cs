using Vestige.Web.Api.Describing;

namespace Vestige.Web.Api.Documents;

/// <summary>A change, with the time at every stage; values under a mask show only type and length.</summary>
public sealed record TracedChangeDocument(
    string Table,
    string Mark,
    string Position,
    long Transaction,
    [property: Time] string CommittedAt,
    [property: Time] string CapturedAt,
    [property: Time] string? SpooledAt,
    string? Origin,
    IReadOnlyDictionary<string, string?>? Before,
    IReadOnlyDictionary<string, string?>? After,
    IReadOnlyCollection<string> Masked,
    IReadOnlyList<TracedStepDocument> Crossings
);
