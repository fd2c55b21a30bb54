using Vestige.Web.Api.Describing;

namespace Vestige.Web.Api.Documents;

/// <summary>A repair of rows, or its undo.</summary>
public sealed record RepairDocument(
    string Id,
    string Reconciliation,
    string By,
    [property: Time] string At,
    string Position,
    int Changed,
    string? Undoes,
    string? UndoneBy,
    string? ComparedAgain,
    IReadOnlyList<RepairedRowDocument> Rows
);
