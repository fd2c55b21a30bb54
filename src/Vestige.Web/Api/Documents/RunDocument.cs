using Vestige.Web.Api.Describing;

namespace Vestige.Web.Api.Documents;

/// <summary>One run of a crossing.</summary>
public sealed record RunDocument(
    [property: Time] string BeganAt,
    string By,
    [property: Time] string? EndedAt,
    string? From,
    string? To,
    long RowsLoaded,
    RunChangesDocument Changes,
    string? Why
);
