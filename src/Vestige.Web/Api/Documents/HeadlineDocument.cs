using Vestige.Core.Headlines;
using Vestige.Web.Api.Describing;

namespace Vestige.Web.Api.Documents;

/// <summary>The worst of all that holds of a crossing.</summary>
/// <param name="Word">What it is.</param>
/// <param name="Since">Since when; null where that is not known.</param>
/// <param name="Sentence">What it means.</param>
/// <param name="Action">What to do next; null for nothing.</param>
public sealed record HeadlineDocument(
    [property: Choices(typeof(HeadlineWord))] string Word,
    [property: Time] string? Since,
    string Sentence,
    [property: Choices(typeof(HeadlineAction))] string? Action
);
