using Vestige.Web.Api.Describing;

namespace Vestige.Web.Api;

/// <summary>How to stop: <c>drain</c>, <c>transaction</c> or <c>now</c>; a mark goes with drain.</summary>
public sealed record StopBody([property: Choices("drain", "transaction", "now")] string Manner, StopMarkBody? Mark = null);
