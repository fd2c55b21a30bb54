namespace Vestige.Core.Alerts;

/// <summary>What a person may have to see to.</summary>
public enum NeedKind
{
    /// <summary>A crossing cannot continue until a person acts.</summary>
    Faulted,

    /// <summary>A crossing waits for a cause to be removed, and retries automatically.</summary>
    Waiting,

    /// <summary>The source's log is not being read, or nothing has been heard of its head.</summary>
    NoHeartbeat,

    /// <summary>A crossing is behind by more than a limit.</summary>
    Lag,

    /// <summary>More arrives than is applied.</summary>
    LosingGround,

    /// <summary>The log is lost before the backlog clears, or is lost already.</summary>
    LogLoss,

    /// <summary>The spool comes near to its budget.</summary>
    SpoolFull,

    /// <summary>Refused rows wait.</summary>
    Quarantine,

    /// <summary>A table is held after its form changed.</summary>
    Held,

    /// <summary>Someone else writes to the target.</summary>
    Unexpected,

    /// <summary>What held when a crossing was started does not hold any more.</summary>
    ReadinessLost,

    /// <summary>Rows differ between source and target.</summary>
    Differing,

    /// <summary>The source refuses writes of its own applications because it is being captured.</summary>
    SourceWritesFail,
}
