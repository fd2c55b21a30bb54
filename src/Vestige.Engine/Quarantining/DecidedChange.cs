namespace Vestige.Engine.Quarantining;

/// <summary>
/// A change of which a person has decided that the target does not get it as the source has it. Kept as a record, since the row differs
/// from then on.
/// </summary>
/// <param name="Change">The change as it waited.</param>
/// <param name="Dropped">Whether it was given up; otherwise its row was edited.</param>
/// <param name="By">Who decided.</param>
/// <param name="At">When.</param>
/// <param name="Words">The reason given, or the columns that were edited.</param>
public sealed record DecidedChange(WaitingChange Change, bool Dropped, string By, DateTimeOffset At, string Words)
{
    /// <summary>So many of a crossing are kept, the latest.</summary>
    public const int Kept = 10_000;

    /// <summary>What was done, by whom and when, as part of a sentence.</summary>
    public string Said =>
        FormattableString.Invariant(
            $"{(Dropped ? "dropped" : "edited")} in quarantine by {By} at {At.UtcDateTime:yyyy-MM-dd HH:mm:ss} UTC ({Words})"
        );
}
