using Vestige.Web.Api.Describing;

namespace Vestige.Web.Api.Documents;

/// <summary>Why a crossing cannot continue without a person.</summary>
public sealed record FaultDocument(string What, string? Remedy, [property: Time] string Since, string? Table, string? Key);
