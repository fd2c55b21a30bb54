using Vestige.Core.Alerts;
using Vestige.Core.Crossings;
using Vestige.Engine.Alerting;
using Vestige.Engine.Measuring;
using Vestige.Web.Crossings;

namespace Vestige.Web.Views;

/// <summary>The next action for something that needs someone.</summary>
/// <param name="Label">On the button.</param>
/// <param name="Address">Where it leads.</param>
/// <param name="Posts">Whether it does something by itself.</param>
public sealed record NeedAction(string Label, string Address, bool Posts = false)
{
    /// <summary>More tables than these are chosen on a page of their own.</summary>
    private const int MostNamed = 20;

    /// <summary>What to press.</summary>
    /// <param name="need">What it is about.</param>
    /// <param name="status">How the crossing stands; null where it is gone.</param>
    public static NeedAction Of(Need need, CrossingStatus? status)
    {
        ArgumentNullException.ThrowIfNull(need);
        var page = $"/crossings/{need.Crossing}";
        return need.Kind switch
        {
            NeedKind.Faulted when status?.Fault is { PlaceLost: false } => new NeedAction("Resume", $"{page}?handler=Resume", Posts: true),
            NeedKind.LogLoss when need.Time is not null && status?.State is CrossingState.Paused or CrossingState.Stopped => new NeedAction(
                "Resume",
                $"{page}?handler=Resume",
                Posts: true
            ),
            NeedKind.LogLoss when need.Time is not null => new NeedAction("See why", page),
            NeedKind.Held
                when need.Tables is { Count: > 0 and <= MostNamed } waiting && status?.MayContinue(waiting) == true => new NeedAction(
                "Decide …",
                $"{page}/agree?{TablesOf.QueryOf(waiting)}"
            ),
            NeedKind.Held or NeedKind.SourceWritesFail when need.Tables is { Count: > 0 and <= MostNamed } held => new NeedAction(
                "Reload …",
                $"{page}/reload?{TablesOf.QueryOf(held)}"
            ),
            NeedKind.Held or NeedKind.SourceWritesFail => new NeedAction("Held tables", $"{page}/tables"),
            NeedKind.Faulted or NeedKind.LogLoss => new NeedAction("Reload …", $"{page}/reload?all=true"),
            NeedKind.Quarantine => new NeedAction("Decide …", $"{page}/quarantine"),
            NeedKind.NoHeartbeat or NeedKind.ReadinessLost => new NeedAction(
                "Look at the connection",
                $"/connections/{status?.Definition.Source}"
            ),
            NeedKind.Differing => new NeedAction("See the rows", $"{page}/reconcile"),
            NeedKind.Unexpected when need.Tables is [var table] => new NeedAction(
                "Look at the table",
                Addresses.OfTable(need.Crossing, table)
            ),
            NeedKind.Unexpected => new NeedAction("Look at the tables", $"{page}/tables"),
            _ => new NeedAction("See why", page),
        };
    }
}
