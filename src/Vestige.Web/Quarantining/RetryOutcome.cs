using Vestige.Core.Text;
using Vestige.Engine.Quarantining;

namespace Vestige.Web.Quarantining;

/// <summary>What came of trying quarantined changes again.</summary>
/// <param name="Asked">How many were to be tried.</param>
/// <param name="Refused">Those that were refused again.</param>
/// <param name="Open">How many were not tried within the time that a page waits.</param>
public sealed record RetryOutcome(int Asked, IReadOnlyList<WaitingChange> Refused, int Open)
{
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(10);
    private static readonly TimeSpan LookAgain = TimeSpan.FromMilliseconds(50);

    /// <summary>Waits a few seconds for what was asked; a crossing that is busy takes longer, and then part of it is open.</summary>
    /// <param name="asked">The ids of the changes.</param>
    /// <param name="waiting">What waits now.</param>
    /// <param name="clock">The clock.</param>
    /// <param name="cancellation">Gives up waiting.</param>
    public static async Task<RetryOutcome> WaitAsync(
        IReadOnlyCollection<string> asked,
        Func<IReadOnlyList<WaitingChange>> waiting,
        TimeProvider clock,
        CancellationToken cancellation
    )
    {
        ArgumentNullException.ThrowIfNull(asked);
        ArgumentNullException.ThrowIfNull(waiting);
        var until = clock.GetUtcNow() + Patience;
        while (true)
        {
            var left = waiting().Where(change => asked.Contains(change.Id)).ToList();
            var open = left.Count(change => change.State == WaitingState.Asked);
            if (open == 0 || clock.GetUtcNow() >= until)
            {
                return new RetryOutcome(asked.Count, [.. left.Where(change => change.State == WaitingState.Refused)], open);
            }

            await Task.Delay(LookAgain, clock, cancellation);
        }
    }

    /// <summary>The outcome as sentences.</summary>
    public string Words
    {
        get
        {
            var applied = Asked - Refused.Count - Open;
            List<string> said = [];
            if (applied > 0)
            {
                said.Add($"{Figures.Of(applied, "change")} applied.");
            }

            if (Refused.Count > 0)
            {
                said.Add($"{Figures.Of(Refused.Count, "change")} refused again: {Refused[0].Answer.TrimEnd('.')}.");
            }

            if (Open > 0)
            {
                said.Add($"{Figures.Of(Open, "change")} not tried yet; this page shows the outcome.");
            }

            return string.Join(' ', said);
        }
    }
}
