using System.Diagnostics;

namespace Vestige.Engine.Measuring;

/// <summary>
/// What the engine does, as activities that a tracing library may listen to. Without a listener none is made. Their tags hold names and
/// counts, never rows.
/// </summary>
public static class EngineTraces
{
    /// <summary>The name under which they are listened to.</summary>
    public const string Name = "Vestige.Engine";

    private static readonly ActivitySource Source = new(Name);

    /// <summary>Begins an activity; null when nobody listens.</summary>
    /// <param name="what">What is done.</param>
    /// <param name="crossing">For which crossing, or connection.</param>
    public static Activity? Begin(string what, string crossing)
    {
        if (!Source.HasListeners())
        {
            return null;
        }

        // What a crossing does is no part of the request that once started it, and must not be sampled with it.
        Activity.Current = null;
        return Source.StartActivity(what)?.SetTag("vestige.of", crossing);
    }
}
