using Vestige.Engine.Commands;

namespace Vestige.Web.Pages.Crossings;

/// <summary>The fields of a new crossing that was not made, until the page shows them again.</summary>
/// <param name="fields">As they were sent.</param>
/// <param name="plan">The plan that was made to decide about it; null where none was.</param>
public sealed class SentCrossing(IQueryCollection fields, CrossingPlan? plan)
{
    private CrossingPlan? plan = plan;

    /// <summary>As they were sent.</summary>
    public IQueryCollection Fields { get; } = fields;

    /// <summary>The plan, once: who comes back later sees what would happen then.</summary>
    public CrossingPlan? TakePlan() => Interlocked.Exchange(ref plan, null);
}
