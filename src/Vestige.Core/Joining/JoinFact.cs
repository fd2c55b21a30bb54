namespace Vestige.Core.Joining;

/// <summary>Something that was found out before a join, and stored before the next was looked for.</summary>
public enum JoinFact
{
    /// <summary>
    /// The old side is closed to everyone but Vestige, with no prepared transaction and no other writer left, and the end was
    /// committed there synchronously.
    /// </summary>
    OldSideClosed,

    /// <summary>Every carried table of the new side stands at the end; none is held, in quarantine, waiting or left out.</summary>
    TablesAtEnd,

    /// <summary>
    /// The new side has been closed since before a full proof of equality, and the keys that changed in either log since that proof
    /// compare equal at the end.
    /// </summary>
    ComparedEqual,

    /// <summary>Catalogues and sequences compare equal after the end.</summary>
    CataloguesEqual,

    /// <summary>The beginning was committed synchronously on the new side before it opened.</summary>
    BeginDurable,

    /// <summary>The old log after the end and the new one since the proof hold only what Vestige wrote.</summary>
    OnlyOwnRoutes,

    /// <summary>Both sides applied the same sealed branch up to its end.</summary>
    SealedBranchApplied,

    /// <summary>Neither side holds a table or has a change in quarantine.</summary>
    NothingHeld,

    /// <summary>The new log says that it holds exactly the transactions that were read, and none that was not.</summary>
    LogHoldsWhatWasRead,
}
