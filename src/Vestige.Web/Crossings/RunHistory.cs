using Vestige.Engine.Commands;
using Vestige.Engine.Events;
using Vestige.Web.Hosting;

namespace Vestige.Web.Crossings;

/// <summary>The runs of crossings: those that are over as they were written down, the one that continues as far as it has come.</summary>
public sealed class RunHistory(RunStore runs, CrossingEngine engine)
{
    /// <summary>The runs of a crossing, the latest first.</summary>
    /// <param name="crossing">The crossing.</param>
    /// <param name="before">Only those that began before; null for the latest.</param>
    /// <param name="most">At most this many.</param>
    /// <param name="cancellation">Gives up.</param>
    public async Task<IReadOnlyList<CrossingRun>> ReadAsync(
        string crossing,
        DateTimeOffset? before,
        int most,
        CancellationToken cancellation
    )
    {
        var now = engine.RunNow(crossing);
        var found = await runs.ReadAsync(crossing, before, most, cancellation);
        return [.. found.Select(run => run.Why.Length == 0 && run.BeganAt == now?.BeganAt ? now : run)];
    }
}
