using Vestige.Core.Positions;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Reconciling;

/// <summary>What the views of both sides are opened of.</summary>
/// <param name="Crossing">The crossing.</param>
/// <param name="Source">Its source.</param>
/// <param name="Target">Its target.</param>
/// <param name="Spool">The spool of its source.</param>
/// <param name="Applied">Up to where it has applied now; null before its first load ended.</param>
/// <param name="PassAsync">
/// Returns when it has applied all up to a position, or, where it is at rest, when the spool holds all up to it. Throws
/// <see cref="Faults.PortException"/> when that does not come.
/// </param>
internal sealed record ViewRequest(
    string Crossing,
    SourceSystem Source,
    TargetSystem Target,
    Spool Spool,
    Func<LogPosition?> Applied,
    Func<LogPosition, CancellationToken, Task> PassAsync
);
