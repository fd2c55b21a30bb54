using Vestige.Core.Measures;
using Vestige.Engine.Measuring;

namespace Vestige.Engine.Ports;

/// <summary>Where measures are kept. Losing the last minute of them harms nothing. Safe for several threads.</summary>
public interface IMeasureStore
{
    /// <summary>
    /// Keeps blocks, each instead of one of the same beginning or kind, and drops those that are older than they are kept.
    /// </summary>
    Task KeepAsync(
        IReadOnlyList<MeasureBlock> blocks,
        IReadOnlyList<AppliedBlock> applied,
        IReadOnlyList<ScoredBlock> judged,
        DateTimeOffset now,
        CancellationToken cancellation
    );

    /// <summary>By when a crossing had applied how far, from the hour of a moment on, oldest first.</summary>
    Task<IReadOnlyList<AppliedTime>> AppliedAsync(string crossing, DateTimeOffset from, CancellationToken cancellation);

    /// <summary>The slots of a crossing that begin at or after a moment and before another, oldest first.</summary>
    Task<IReadOnlyList<MeasureSlot>> ReadAsync(
        string crossing,
        MeasureStep step,
        DateTimeOffset from,
        DateTimeOffset before,
        CancellationToken cancellation
    );

    /// <summary>The forecasts of a crossing that were held against the outcome, of each kind of which there are any.</summary>
    Task<IReadOnlyList<ScoredBlock>> ScoredAsync(string crossing, CancellationToken cancellation);

    /// <summary>Drops everything of a crossing.</summary>
    Task ForgetAsync(string crossing, CancellationToken cancellation);
}
