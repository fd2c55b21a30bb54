using Vestige.Engine.Quarantining;
using Vestige.Web.Api.Describing;

namespace Vestige.Web.Api.Documents;

/// <summary>A change that waits.</summary>
public sealed record QuarantinedDocument(
    string Id,
    string Table,
    string Key,
    string Mark,
    [property: Choices(typeof(WaitingState))] string State,
    string Cause,
    string Answer,
    string Position,
    [property: Time] string CommittedAt,
    [property: Time] string SetAsideAt,
    int Tries,
    string? EditedBy
);
