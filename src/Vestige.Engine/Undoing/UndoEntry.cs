using Vestige.Core.Schemas;

namespace Vestige.Engine.Undoing;

/// <summary>Tables of one schema of a target that were to be dropped, and can be restored for a while.</summary>
/// <param name="Id">Eight hexadecimal digits; what the target's system knows them by.</param>
/// <param name="Connection">The target.</param>
/// <param name="Crossing">The crossing that has written them.</param>
/// <param name="Tables">Their names as they were, all of one schema.</param>
/// <param name="Why">What was done, as a sentence.</param>
/// <param name="By">Who asked for it.</param>
/// <param name="At">Since when.</param>
/// <param name="Until">When they are dropped.</param>
public sealed record UndoEntry(
    string Id,
    string Connection,
    string Crossing,
    IReadOnlyList<TableName> Tables,
    string Why,
    string By,
    DateTimeOffset At,
    DateTimeOffset Until
)
{
    /// <summary>Where the target has them meanwhile, as people find them there; empty where that has no name.</summary>
    public string Place { get; init; } = "";

    /// <summary>The shortest time, in hours.</summary>
    public const int LeastHours = 1;

    /// <summary>The longest time, in hours: 30 days.</summary>
    public const int MostHours = 720;
}
