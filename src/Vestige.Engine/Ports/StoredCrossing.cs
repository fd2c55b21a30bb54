using Vestige.Core.Crossings;

namespace Vestige.Engine.Ports;

/// <summary>A crossing as kept in the control store.</summary>
/// <param name="Definition">What a person said.</param>
/// <param name="Desired">What a person last asked for.</param>
/// <param name="By">Who asked; a typed name, unverified.</param>
/// <param name="Since">When.</param>
public sealed record StoredCrossing(CrossingDefinition Definition, DesiredState Desired, string By, DateTimeOffset Since)
{
    /// <summary>Whether it was ever started, so that the target may know of it.</summary>
    public bool Begun => Desired is not (DesiredState.Draft or DesiredState.KeepLog);

    /// <summary>Whether its source must keep what it has not got yet.</summary>
    public bool NeedsLog => Desired is not (DesiredState.Draft or DesiredState.Finish);
}
