using Vestige.Core.Crossings;

namespace Vestige.Engine.Ports;

/// <summary>A crossing as kept in the control store.</summary>
/// <param name="Definition">What a person said.</param>
/// <param name="Desired">What a person last asked for.</param>
/// <param name="By">Who asked; a typed name, unverified.</param>
/// <param name="Since">When.</param>
/// <param name="Until">The mark up to which it still goes before it stops; null when there is none, or it was reached.</param>
public sealed record StoredCrossing(
    CrossingDefinition Definition,
    DesiredState Desired,
    string By,
    DateTimeOffset Since,
    StopMark? Until = null
)
{
    /// <summary>Whether a worker is to run it.</summary>
    public bool Runs => Desired == DesiredState.Run || (Desired == DesiredState.Stop && Until is not null);

    /// <summary>Whether it was ever started, so that the target may know of it.</summary>
    public bool Begun => Desired is not (DesiredState.Draft or DesiredState.KeepLog);

    /// <summary>Whether its source must keep what it has not got yet.</summary>
    public bool NeedsLog => Desired is not (DesiredState.Draft or DesiredState.Finish);
}
