using Vestige.Core.Headlines;
using Vestige.Web.Api.Describing;

namespace Vestige.Web.Api.Documents;

/// <summary>One thing that holds of a crossing.</summary>
/// <param name="Kind">What it is.</param>
/// <param name="Since">Since when; null where that is not known.</param>
/// <param name="Tables">The source tables concerned, as schema.table; empty when it is about the crossing as a whole.</param>
/// <param name="Sentence">What it means.</param>
/// <param name="Action">What to do next; null for nothing.</param>
public sealed record ReasonDocument(
    [property: Choices(typeof(HeadlineWord))] string Kind,
    [property: Time] string? Since,
    IReadOnlyList<string> Tables,
    string Sentence,
    [property: Choices(typeof(HeadlineAction))] string? Action
);
