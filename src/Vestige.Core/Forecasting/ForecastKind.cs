namespace Vestige.Core.Forecasting;

/// <summary>What of a crossing is forecast.</summary>
public enum ForecastKind
{
    /// <summary>When its backlog clears.</summary>
    Clearing,

    /// <summary>When its load ends.</summary>
    Load,

    /// <summary>When the spool of its source is full.</summary>
    SpoolFull,

    /// <summary>When the log of its source is lost.</summary>
    LogLost,
}
