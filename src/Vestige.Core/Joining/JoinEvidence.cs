namespace Vestige.Core.Joining;

/// <summary>What is known of a join: the kind that is claimed, and the facts that were found.</summary>
public sealed record JoinEvidence(JoinKind Kind, IReadOnlyList<JoinFact> Facts)
{
    private static readonly Dictionary<JoinKind, JoinFact[]> Needed = new()
    {
        [JoinKind.Proved] =
        [
            JoinFact.OldSideClosed,
            JoinFact.TablesAtEnd,
            JoinFact.ComparedEqual,
            JoinFact.CataloguesEqual,
            JoinFact.BeginDurable,
            JoinFact.OnlyOwnRoutes,
        ],
        [JoinKind.Derived] = [JoinFact.SealedBranchApplied, JoinFact.NothingHeld],
        [JoinKind.Continued] = [JoinFact.LogHoldsWhatWasRead],
    };

    /// <summary>The facts without which a join of the kind is not taken, in the order in which they are found.</summary>
    public static IReadOnlyList<JoinFact> NeededFor(JoinKind kind) => Needed[kind];

    /// <summary>The needed facts that are not there; empty when the join may be taken.</summary>
    public IReadOnlyList<JoinFact> Missing => [.. Needed[Kind].Except(Facts)];

    /// <summary>Evidence of a kind with all the facts that it needs.</summary>
    public static JoinEvidence Complete(JoinKind kind) => new(kind, Needed[kind]);

    /// <summary>By value: the same facts, in whatever order.</summary>
    public bool Equals(JoinEvidence? other) => other is not null && Kind == other.Kind && Facts.ToHashSet().SetEquals(other.Facts);

    public override int GetHashCode() => HashCode.Combine(Kind, Facts.Count);
}
