namespace Vestige.Engine.Measuring;

/// <summary>One second of a crossing.</summary>
/// <param name="At">The end of the second.</param>
/// <param name="Behind">Lag at that moment.</param>
/// <param name="NotCaptured">The part of it between source head and captured.</param>
/// <param name="NotSpooled">The part between captured and spooled.</param>
/// <param name="NotApplied">The part between spooled and applied.</param>
/// <param name="Arriving">Changes a second that became durable in the spool.</param>
/// <param name="Applied">Changes a second applied.</param>
/// <param name="BacklogThroughout">Something waited during the whole second, so that <paramref name="Applied"/> is a capacity.</param>
public readonly record struct MeasurePoint(
    DateTimeOffset At,
    TimeSpan Behind,
    TimeSpan NotCaptured,
    TimeSpan NotSpooled,
    TimeSpan NotApplied,
    double Arriving,
    double Applied,
    bool BacklogThroughout
);
