using Vestige.Core.Positions;
using Vestige.Core.Text;
using Vestige.Engine.Capturing;
using Vestige.Engine.Concurrency;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Reconciling;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Commands;

/// <summary>How both sides of a crossing are read for comparing: its source, its target, and the log between them.</summary>
internal sealed class ComparisonViews(IConnections connections, Captures captures, TimeProvider clock)
{
    private static readonly TimeSpan WaitFor = TimeSpan.FromSeconds(60);
    private static readonly TimeSpan LookAgain = TimeSpan.FromMilliseconds(50);

    /// <summary>Throws <see cref="PortException"/> where the source's log is not read.</summary>
    public ViewRequest RequestOf(CrossingEntry entry)
    {
        var definition = entry.Stored.Definition;
        var capture = captures.Find(definition.Source) ?? throw new PortException($"The log of {definition.Source} is not being read.");
        return new ViewRequest(
            entry.Name,
            connections.Source(definition.Source),
            connections.Target(definition.Target),
            capture.Spool,
            () => entry.Progress.Position,
            (position, cancellation) => PassAsync(entry, capture, position, cancellation)
        );
    }

    /// <summary>While a crossing runs it is waited for; at rest it is enough that the log is here up to there.</summary>
    private async Task PassAsync(CrossingEntry entry, Capture capture, LogPosition position, CancellationToken cancellation)
    {
        var until = clock.GetUtcNow() + WaitFor;
        while (entry.Worker is { Running.IsCompleted: false } worker && !(worker.View.Applied >= position))
        {
            if (clock.GetUtcNow() > until && entry.Worker is { Running.IsCompleted: false })
            {
                throw new PortException($"{entry.Name} did not get to what the source holds now within {Figures.Duration(WaitFor)}.")
                {
                    Remedy = "Compare when it follows.",
                };
            }

            await Task.Delay(LookAgain, clock, cancellation);
        }

        if (entry.Worker is null or { Running.IsCompleted: true })
        {
            using var patience = new Patience(WaitFor, clock, cancellation);
            try
            {
                await capture.ReachAsync(position, patience.Token);
            }
            catch (OperationCanceledException exception) when (!cancellation.IsCancellationRequested)
            {
                throw new PortException(
                    $"The log of {entry.Stored.Definition.Source} is not read up to what the source holds now.",
                    exception
                )
                {
                    Remedy = "See why its reader waits.",
                };
            }
        }
    }
}
