namespace Vestige.Core.Forecasting;

/// <summary>How a backlog will go.</summary>
public enum Clearing
{
    /// <summary>There is no backlog.</summary>
    Current,

    /// <summary>It clears in a known time at the measured rates.</summary>
    Clears,

    /// <summary>More arrives than is applied.</summary>
    Never,

    /// <summary>Capacity was not seen yet: no interval had a backlog throughout.</summary>
    NotMeasured,

    /// <summary>Nothing is applied now, whatever the capacity.</summary>
    AtRest,
}
