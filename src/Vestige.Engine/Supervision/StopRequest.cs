using Vestige.Core.Crossings;
using Vestige.Core.Positions;

namespace Vestige.Engine.Supervision;

/// <summary>How a running crossing is asked to come to rest.</summary>
/// <param name="Manner">The manner.</param>
/// <param name="Mark">With drain: everything up to here is applied, and nothing after it.</param>
public sealed record StopRequest(StopManner Manner, LogPosition? Mark = null);
