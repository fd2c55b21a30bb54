using Vestige.Core.Positions;
using Vestige.Engine.Measuring;

namespace Vestige.Engine.Observing;

/// <summary>How things stood when a run began.</summary>
internal sealed record RunBegin(DateTimeOffset At, string By, LogPosition? From, RunCounts Counts);
