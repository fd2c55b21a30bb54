namespace Vestige.Core.Headlines;

/// <summary>What a crossing says of itself everywhere: the worst of all that holds, and the rest.</summary>
/// <param name="Reasons">All that holds, worst first; never empty.</param>
public sealed record Headline(IReadOnlyList<Reason> Reasons)
{
    /// <summary>The worst.</summary>
    public Reason Worst => Reasons[0];

    public HeadlineWord Word => Worst.Word;

    public DateTimeOffset? Since => Worst.Since;

    public string Sentence => Worst.Sentence;

    public HeadlineAction? Action => Worst.Action;

    /// <summary>Whether a person should act, or at least know.</summary>
    public bool NeedsAttention => Word <= HeadlineWord.Differs;
}
