namespace Vestige.Web.Api.Documents;

/// <summary>A change that waits, with its row and what would be written.</summary>
public sealed record QuarantinedRowDocument(
    QuarantinedDocument Change,
    IReadOnlyList<QuarantinedValueDocument> Row,
    IReadOnlyList<WrittenDocument> Written,
    string? Problem
);
