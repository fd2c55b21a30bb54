using Vestige.Core.Positions;

namespace Vestige.Engine.Ports;

/// <summary>
/// One worker's hold on how far a crossing is. After any exception it is finished: open another, which says what was written. Used by one
/// caller at a time.
/// </summary>
public interface IProgressSession : IAsyncDisposable
{
    /// <summary>The progress as last written by this session, or as found when it was opened.</summary>
    TargetProgress Progress { get; }

    /// <summary>Puts the numbers of branches on the positions of <see cref="Progress"/>, by the logs that it names.</summary>
    void Match(IReadOnlyList<LogBranch> branches);

    /// <summary>
    /// Writes progress alone, in one step, durable when it returns; with <see cref="ProgressUpdate.None"/> it only proves that this worker
    /// still holds the crossing. Throws <see cref="Faults.FencedException"/> when another worker has taken over or the position is not the
    /// expected one. Another exception leaves it open whether it was written.
    /// </summary>
    Task SaveAsync(ProgressUpdate update, CancellationToken cancellation);
}
