using Vestige.Core.Crossings;
using Vestige.Core.Text;
using Vestige.Engine.Events;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Loading;

/// <summary>
/// What a load beside the stream is told by and tells: it is slowed while the other tables are late, and says when a table has ended.
/// </summary>
internal sealed class BesideLoad(WorkerContext context, AsyncSignal ended)
{
    /// <summary>No longer than this for a block: where the others are late for another reason, the load goes on, slowly.</summary>
    private static readonly TimeSpan LongestWait = TimeSpan.FromMilliseconds(500);
    private static readonly TimeSpan LookAgainAfter = TimeSpan.FromMilliseconds(50);
    private long slowedTicks;

    /// <summary>Whether the target lets only one write at a time, the load or the stream.</summary>
    public bool IsTakingTurns { get; init; }

    /// <summary>For how long readers of it have waited for the stream, added up.</summary>
    public TimeSpan Slowed => new(Interlocked.Read(ref slowedTicks));

    /// <summary>Waits before a block of rows is written while the stream is late.</summary>
    public async Task PaceAsync(CancellationToken cancellation)
    {
        var since = context.Clock.GetTimestamp();
        var waited = TimeSpan.Zero;
        while (waited < LongestWait && IsLate())
        {
            await Task.Delay(LookAgainAfter, context.Clock, cancellation);
            waited = context.Clock.GetElapsedTime(since);
        }

        Interlocked.Add(ref slowedTicks, waited.Ticks);
    }

    /// <summary>A table has ended.</summary>
    public async Task EndedAsync(TableLoad load, ReplacedRows? replaced)
    {
        ended.Beat();
        if (replaced is { } rows)
        {
            var same = load.RowsWritten - rows.Inserted - rows.Updated;
            await context.Events.OfCrossingAsync(
                context.Crossing,
                EventKind.Note,
                $"Rows of {load.Table.Name} replaced in place: {Figures.Of(rows.Inserted, "row")} inserted, "
                    + $"{Figures.Count(rows.Updated)} updated, {Figures.Count(rows.Deleted)} deleted, {Figures.Count(same)} unchanged."
            );
        }
    }

    private bool IsLate() =>
        context.State.OldestInHand is { } oldest
        && context.Clock.GetUtcNow() + context.Capture.Status.ClockDifference - oldest > context.LoadLag();
}
