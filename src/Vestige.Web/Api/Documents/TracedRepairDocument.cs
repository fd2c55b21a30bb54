using Vestige.Web.Api.Describing;

namespace Vestige.Web.Api.Documents;

/// <summary>A repair of the traced row.</summary>
public sealed record TracedRepairDocument(
    string Crossing,
    string Repair,
    string Reconciliation,
    [property: Time] string At,
    string By,
    string Position,
    string Said,
    string? Statement
);
