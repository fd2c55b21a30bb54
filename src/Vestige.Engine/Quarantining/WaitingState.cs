namespace Vestige.Engine.Quarantining;

/// <summary>What is to become of a change in quarantine.</summary>
public enum WaitingState
{
    /// <summary>The target refused it; a person decides.</summary>
    Refused,

    /// <summary>It came after another of its row and waits behind it.</summary>
    Behind,

    /// <summary>A person asked to have it tried again; the crossing does that as soon as it runs.</summary>
    Asked,

    /// <summary>
    /// The process ended while it was tried again, and it cannot be tried twice without harm; a person looks whether it arrived.
    /// </summary>
    Unsure,
}
