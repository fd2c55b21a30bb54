using Vestige.Engine.Quarantining;

namespace Vestige.Web.Quarantining;

/// <summary>The changes that wait for one cause: refused by one table with one answer.</summary>
public static class WaitingGroup
{
    /// <summary>What waits by cause, the largest group first, and last what only waits behind others.</summary>
    public static IReadOnlyList<IGrouping<string, WaitingChange>> ByCause(IEnumerable<WaitingChange> waiting) =>
        [.. waiting.GroupBy(CauseOf).OrderBy(group => group.First().State == WaitingState.Behind).ThenByDescending(group => group.Count())];

    /// <summary>The changes of the same cause as one of them; empty when it does not wait.</summary>
    public static IReadOnlyList<WaitingChange> Like(IReadOnlyList<WaitingChange> waiting, string id)
    {
        ArgumentNullException.ThrowIfNull(waiting);
        return waiting.FirstOrDefault(change => change.Id == id) is { } one
            ? [.. waiting.Where(change => CauseOf(change) == CauseOf(one))]
            : [];
    }

    /// <summary>The cause in words.</summary>
    public static string CauseOf(WaitingChange change)
    {
        ArgumentNullException.ThrowIfNull(change);
        return change switch
        {
            { State: WaitingState.Behind } => $"Behind an earlier change of their row, in {change.Table}",
            { State: WaitingState.Unsure } => $"Tried again when the process ended; whether they arrived in {change.Into} is not known",
            { Into: { } into } => $"{into} answers: {change.Answer}",
            _ => $"{change.Table} cannot be treated: {change.Answer}",
        };
    }
}
