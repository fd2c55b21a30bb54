using Vestige.Core.Crossings;
using Vestige.Web.Api.Describing;

namespace Vestige.Web.Api.Documents;

/// <summary>A crossing's state after a request.</summary>
public sealed record StateDocument(string Name, [property: Choices(typeof(CrossingState))] string State);
