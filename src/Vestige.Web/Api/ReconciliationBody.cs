namespace Vestige.Web.Api;

/// <summary>What is to be compared; all of a crossing where nothing is said.</summary>
public sealed record ReconciliationBody(
    IReadOnlyList<string>? Tables = null,
    string? From = null,
    string? Before = null,
    int? Sample = null,
    bool? Changed = null
);
