using Vestige.Core.Positions;

namespace Vestige.Engine.Events;

/// <summary>One run of a crossing, from when its worker began to when it ended. Immutable.</summary>
/// <param name="Crossing">The crossing.</param>
/// <param name="BeganAt">When it began.</param>
/// <param name="By">Who asked for it.</param>
/// <param name="EndedAt">When it ended; null while it continues, and where the process ended with it.</param>
/// <param name="From">The position of the target when it began; null before the first load.</param>
/// <param name="To">The position of the target when it ended; null where that is not known.</param>
/// <param name="RowsLoaded">Rows written by initial loads.</param>
/// <param name="Inserts">Inserts applied.</param>
/// <param name="Updates">Updates applied.</param>
/// <param name="Deletes">Deletes applied.</param>
/// <param name="Others">Truncations and changes of form met.</param>
/// <param name="Why">Why it ended; empty while it continues.</param>
public sealed record CrossingRun(
    string Crossing,
    DateTimeOffset BeganAt,
    string By,
    DateTimeOffset? EndedAt,
    LogPosition? From,
    LogPosition? To,
    long RowsLoaded,
    long Inserts,
    long Updates,
    long Deletes,
    long Others,
    string Why
)
{
    /// <summary>Said of a run that the end of the process cut short.</summary>
    public const string ProcessEnded = "the process ended";
}
