using Microsoft.AspNetCore.Mvc.RazorPages;
using Vestige.Core.Crossings;
using Vestige.Engine.Commands;
using Vestige.Engine.Measuring;

namespace Vestige.Web.Pages;

/// <summary>Of every crossing, what was proved and what differs.</summary>
public class ReconcileModel(CrossingEngine engine, TimeProvider clock) : PageModel
{
    public DateTimeOffset Now => clock.GetUtcNow();

    /// <summary>Those that differ first, then those never proved, then the longest proved.</summary>
    public IReadOnlyList<CrossingStatus> All =>
        [
            .. engine
                .Statuses.Where(status => status.State != CrossingState.Draft)
                .OrderByDescending(status => status.Differences > 0)
                .ThenBy(status => status.Proved?.At ?? DateTimeOffset.MinValue)
                .ThenBy(status => status.Name, StringComparer.Ordinal),
        ];

    /// <summary>Whether a comparison is at work.</summary>
    public bool IsCompared(CrossingStatus status) => engine.Reconcile.Running(status.Name) is not null;
}
