using Vestige.Core.Positions;

namespace Vestige.Engine.Ports;

/// <summary>A log at one moment.</summary>
/// <param name="Identity">Which log it is.</param>
/// <param name="Head">The position of its last transaction.</param>
/// <param name="Oldest">What comes after this position is still there.</param>
/// <param name="KeptBytes">How much there is.</param>
/// <param name="LimitBytes">Beyond this the oldest is dropped, read or not.</param>
/// <param name="SpanBytes">This much is kept even when everything was read and confirmed.</param>
public sealed record LogGauge(LogIdentity Identity, LogPosition Head, LogPosition Oldest, long KeptBytes, long LimitBytes, long SpanBytes);
