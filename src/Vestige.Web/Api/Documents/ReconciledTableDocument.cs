using Vestige.Web.Api.Describing;

namespace Vestige.Web.Api.Documents;

/// <summary>What a comparison found of one table.</summary>
public sealed record ReconciledTableDocument(
    string Table,
    string Source,
    string? Position,
    [property: Time] string? At,
    bool Equal,
    string? Reason,
    long SourceRows,
    long TargetRows,
    long Same,
    long Missing,
    long Extra,
    long Differing,
    long InFlight,
    int? Listed,
    bool More,
    IReadOnlyList<string>? NotCompared,
    IReadOnlyList<SegmentDocument>? Segments
);
