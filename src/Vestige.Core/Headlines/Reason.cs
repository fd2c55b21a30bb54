namespace Vestige.Core.Headlines;

/// <summary>One thing that holds of a crossing. The worst of them is its headline.</summary>
/// <param name="Word">What it is.</param>
/// <param name="Since">Since when; null where that is not known.</param>
/// <param name="Tables">The source tables concerned, as schema.table; empty when it is about the crossing as a whole.</param>
/// <param name="Sentence">What it means, then the figures; one or two sentences.</param>
/// <param name="Action">What to do next; null for nothing.</param>
public sealed record Reason(
    HeadlineWord Word,
    DateTimeOffset? Since,
    IReadOnlyList<string> Tables,
    string Sentence,
    HeadlineAction? Action = null
);
