using Microsoft.Extensions.Logging;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Workers;

/// <summary>Builds the references among loaded tables, once all of them stand together.</summary>
internal sealed class ConstraintBuilder(string crossing, TableSync arrival, TimeProvider clock, ILogger logger)
{
    private static readonly TimeSpan TryAgain = TimeSpan.FromSeconds(10);
    private DateTimeOffset again;

    /// <summary>
    /// Beside the stream. The source is asked for them once more; where it cannot be reached, what the spool holds is applied all the
    /// same, and they are tried again.
    /// </summary>
    public async Task BesideAsync(ITargetSession session, CancellationToken cancellation)
    {
        if (clock.GetUtcNow() < again || !arrival.IsToSettle(session.Progress, session.Progress.Position!.Value))
        {
            return;
        }

        IReadOnlyList<TableDescription> forms;
        try
        {
            forms = await arrival.FormsAsync(cancellation);
        }
        catch (PortException exception) when (exception.Transient)
        {
            again = clock.GetUtcNow() + TryAgain;
            logger.LogWarning(exception, "The references of {Crossing} cannot be built yet", crossing);
            return;
        }

        await arrival.SettleAsync(session, forms, cancellation);
    }

    /// <summary>Where the rows come once, at the position at which all tables are together.</summary>
    public async Task TogetherAsync(ITargetSession session, CancellationToken cancellation)
    {
        if (arrival.IsToSettle(session.Progress, arrival.Together(session.Progress)))
        {
            await arrival.SettleAsync(session, await arrival.FormsAsync(cancellation), cancellation);
        }
    }
}
