using Vestige.Core.Crossings;

namespace Vestige.Engine.Workers;

/// <summary>How a running crossing is asked to come to rest.</summary>
/// <param name="Mode">How.</param>
/// <param name="Mark">With drain: where it comes to rest.</param>
public sealed record StopRequest(StopMode Mode, StopMark? Mark = null);
