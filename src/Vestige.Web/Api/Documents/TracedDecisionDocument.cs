using Vestige.Web.Api.Describing;

namespace Vestige.Web.Api.Documents;

/// <summary>What a person decided about a change.</summary>
public sealed record TracedDecisionDocument(
    [property: Choices("dropped", "edited")] string What,
    string By,
    [property: Time] string At,
    string Words
);
