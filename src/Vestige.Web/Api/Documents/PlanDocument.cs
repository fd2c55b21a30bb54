namespace Vestige.Web.Api.Documents;

/// <summary>What a start would do; durations in seconds.</summary>
public sealed record PlanDocument(
    bool Ready,
    IReadOnlyList<PlannedTableDocument> Tables,
    IReadOnlyList<LeftOutTableDocument> LeftOut,
    IReadOnlyList<string> Statements,
    IReadOnlyList<string> NotMade,
    long Rows,
    long? Bytes,
    double EstimateSeconds,
    double RowsPerSecond,
    bool Measured,
    IReadOnlyList<ReadinessView> Lines,
    IReadOnlyList<PlanProblemDocument> Problems,
    string? Delivery
);
