namespace Vestige.Web.Api.Documents;

/// <summary>Every change of a row, or of a transaction, that the spool still holds.</summary>
public sealed record TraceDocument(
    string Connection,
    string? Table,
    bool Held,
    string? Since,
    string? UpTo,
    bool More,
    IReadOnlyList<TracedChangeDocument> Changes,
    IReadOnlyList<TracedRepairDocument> Repairs
);
