using Vestige.Core.Crossings;

namespace Vestige.Engine.Workers;

/// <summary>How a running crossing is asked to come to rest.</summary>
/// <param name="Manner">The manner.</param>
/// <param name="Mark">With drain: where it comes to rest.</param>
public sealed record StopRequest(StopMode Manner, StopMark? Mark = null);
