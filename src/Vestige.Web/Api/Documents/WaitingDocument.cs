using Vestige.Web.Api.Describing;

namespace Vestige.Web.Api.Documents;

/// <summary>What a crossing waits for.</summary>
public sealed record WaitingDocument(string What, string? Remedy, [property: Time] string Since);
