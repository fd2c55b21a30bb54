namespace Vestige.Web.Api.Documents;

/// <summary>A table of a database, and whether it can cross.</summary>
public sealed record TableDocument(
    string Schema,
    string Table,
    long EstimatedRows,
    long? Bytes,
    IReadOnlyList<string> Key,
    IReadOnlyList<ColumnDocument> Columns,
    bool Crosses,
    string? Reason,
    bool InsertsCross,
    string? PartOf
);
