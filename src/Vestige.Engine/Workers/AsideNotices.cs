using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Engine.Events;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;
using Vestige.Engine.Quarantining;

namespace Vestige.Engine.Workers;

/// <summary>
/// Tells of rows that were set aside and of tables that are held. Where many are refused one after the other, they are told together.
/// </summary>
internal sealed class AsideNotices(string crossing, Quarantine quarantine, EventLog events, TimeProvider clock)
{
    private static readonly TimeSpan Together = TimeSpan.FromSeconds(10);
    private int untold;
    private DateTimeOffset toldAt;

    /// <summary>So many more changes wait than before.</summary>
    public void Add(int changes) => untold += changes;

    public async Task TellAsync()
    {
        var now = clock.GetUtcNow();
        if (
            untold > 0
            && now - toldAt >= Together
            && quarantine.All.LastOrDefault(change => change.State == WaitingState.Refused) is { } last
        )
        {
            var more = untold;
            (untold, toldAt) = (0, now);
            await events.OfCrossingAsync(
                crossing,
                EventKind.Warning,
                $"Quarantined: {Figures.Of(more, "change")} of rows that the target refused, the last of {last.Table}: {last.Answer}."
            );
        }
    }

    /// <summary>The tables that are held and were not before.</summary>
    public async Task TellHeldAsync(TargetProgress progress, Func<TableName, bool> wasHeld)
    {
        foreach (var table in progress.Tables.Where(table => table.Held && !wasHeld(table.Table)))
        {
            await events.OfCrossingAsync(crossing, EventKind.Warning, $"{HeldTimes.TextOf(table.Table)}{table.HeldCause}");
        }
    }
}
