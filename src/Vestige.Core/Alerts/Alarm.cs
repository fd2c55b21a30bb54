namespace Vestige.Core.Alerts;

/// <summary>
/// Whether a condition is worth telling, without flapping: it is raised once the condition has held for a time, and over once it has
/// not held for a time, however often it came and went in between (a Schmitt trigger in time). Immutable.
/// </summary>
/// <param name="HeldSince">Since when the condition holds; null while it does not.</param>
/// <param name="GoneSince">Since when it does not, while raised; null while it holds.</param>
/// <param name="RaisedAt">When it was raised; null while it is not.</param>
public readonly record struct Alarm(DateTimeOffset? HeldSince, DateTimeOffset? GoneSince, DateTimeOffset? RaisedAt)
{
    public static Alarm Quiet => default;

    public bool Raised => RaisedAt is not null;

    /// <summary>The next state.</summary>
    /// <param name="holds">Whether the condition holds; where it is a limit, a raised one is asked about a lower limit.</param>
    /// <param name="now">The moment.</param>
    /// <param name="after">How long it must hold.</param>
    /// <param name="overAfter">How long it must be gone.</param>
    public Alarm Step(bool holds, DateTimeOffset now, TimeSpan after, TimeSpan overAfter)
    {
        if (holds)
        {
            var since = HeldSince ?? now;
            return new Alarm(since, null, RaisedAt ?? (now - since >= after ? now : null));
        }

        if (!Raised)
        {
            return Quiet;
        }

        var gone = GoneSince ?? now;
        return now - gone >= overAfter ? Quiet : new Alarm(HeldSince, gone, RaisedAt);
    }
}
