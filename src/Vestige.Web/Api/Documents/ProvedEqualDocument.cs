using Vestige.Web.Api.Describing;

namespace Vestige.Web.Api.Documents;

/// <summary>As of when a table was proved equal.</summary>
public sealed record ProvedEqualDocument(string Position, [property: Time] string At);
