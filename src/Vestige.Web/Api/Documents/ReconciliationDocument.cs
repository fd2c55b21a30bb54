using Vestige.Engine.Reconciling;
using Vestige.Web.Api.Describing;

namespace Vestige.Web.Api.Documents;

/// <summary>A comparison of both sides.</summary>
public sealed record ReconciliationDocument(
    string Id,
    string Crossing,
    [property: Choices(typeof(ReconciliationState))] string State,
    string? Note,
    string By,
    [property: Time] string BeganAt,
    [property: Time] string? EndedAt,
    ScopeDocument Scope,
    string? Position,
    bool Equal,
    IReadOnlyList<ReconciledTableDocument> Tables
);
