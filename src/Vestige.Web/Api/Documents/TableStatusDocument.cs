using Vestige.Core.Crossings;
using Vestige.Web.Api.Describing;

namespace Vestige.Web.Api.Documents;

/// <summary>A table of a crossing.</summary>
public sealed record TableStatusDocument(
    string Source,
    string Target,
    [property: Choices(typeof(TableState))] string State,
    string? Cause,
    bool MayContinue,
    LoadDocument? Load,
    ChangesDocument Changes,
    UnexpectedDocument Unexpected,
    double? LagSeconds,
    long Quarantined,
    ProvedEqualDocument? ProvedEqual,
    long Differences
);
