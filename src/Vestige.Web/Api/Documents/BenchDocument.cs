namespace Vestige.Web.Api.Documents;

/// <summary>What statements did; <paramref name="Took"/> in seconds.</summary>
public sealed record BenchDocument(
    IReadOnlyList<string> Columns,
    IReadOnlyList<IReadOnlyList<string>> Rows,
    bool More,
    long Changed,
    IReadOnlyList<BenchChangeDocument> Changes,
    string? Position,
    double Took
);
