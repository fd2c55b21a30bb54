using Vestige.Core.Routes;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Following;

/// <summary>The two databases of a crossing, as routes name them.</summary>
/// <param name="Source">The source.</param>
/// <param name="Target">The target.</param>
internal sealed record RouteEnds(string Source, string Target)
{
    /// <summary>The route of what is loaded from the source.</summary>
    public Route OfRows { get; } = Route.None.From(Source);

    /// <summary>The route of a transaction of the source once it is applied.</summary>
    public Route Of(SpooledFragment fragment) => fragment.Route is null ? OfRows : Route.Parse(fragment.Route).From(Source);
}
