namespace Vestige.Core.Lag;

/// <summary>How far behind a target is at one moment.</summary>
/// <param name="Behind">Never negative; zero when <paramref name="Current"/>.</param>
/// <param name="Current">Nothing captured waits, and the reader has passed the last head it sampled.</param>
/// <param name="AtLeast">The log cannot be read, so the true lag may be larger.</param>
public readonly record struct LagReading(TimeSpan Behind, bool Current, bool AtLeast);
