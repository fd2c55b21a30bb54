using Vestige.Core.Joining;
using Vestige.Core.Positions;
using Vestige.Engine.Events;
using Vestige.Engine.Reconciling;

namespace Vestige.Engine.Workers;

/// <summary>
/// What follows from a crossing's passage to another log: it is told, and what was proved equal counts no more where the join was only
/// derived.
/// </summary>
internal sealed class PassageNotices(string crossing, Verdicts verdicts, EventLog events)
{
    public async Task EnteredAsync(LogBranch entered, CancellationToken cancellation)
    {
        var isDerived = entered.OpenedBy is { Kind: JoinKind.Derived };
        if (isDerived)
        {
            await verdicts.ForgetAsync(null, cancellation);
        }

        await events.OfCrossingAsync(
            crossing,
            isDerived ? EventKind.Warning : EventKind.Note,
            "Changes are now read from the log "
                + $"{entered.Identity}."
                + (isDerived ? " The two logs were joined after a failure: no table counts as proved equal any more." : "")
        );
    }
}
