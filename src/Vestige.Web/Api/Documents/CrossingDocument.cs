using Vestige.Core.Crossings;
using Vestige.Web.Api.Describing;

namespace Vestige.Web.Api.Documents;

/// <summary>A crossing in the list of all.</summary>
public sealed record CrossingDocument(
    string Name,
    [property: Choices(typeof(CrossingState))] string State,
    HeadlineDocument Headline,
    CrossingDefinition Definition
);
