namespace Vestige.Engine.Workers;

/// <summary>Why a crossing cannot continue without a person, or what it is waiting for.</summary>
/// <param name="What">What happened, in the words of whoever refused.</param>
/// <param name="Remedy">What to do; null when there is nothing but to wait.</param>
/// <param name="Since">When it first happened.</param>
/// <param name="PlaceLost">Only a new load helps.</param>
/// <param name="Table">The table concerned, as schema.table; null when it is not about one.</param>
/// <param name="Key">The key of the row concerned; null when it is not about one.</param>
public sealed record CrossingFault(
    string What,
    string? Remedy,
    DateTimeOffset Since,
    bool PlaceLost = false,
    string? Table = null,
    string? Key = null
)
{
    /// <summary>When the next attempt is made; null where that is not known.</summary>
    public DateTimeOffset? NextAttempt { get; init; }

    /// <summary>Whether it takes a person to end it, though it is tried again all the same.</summary>
    public bool IsLasting { get; init; }
}
