namespace Vestige.Core.Crossings;

/// <summary>How a crossing comes to rest.</summary>
public enum StopMode
{
    /// <summary>All that is captured is applied first.</summary>
    Drain,

    /// <summary>The transaction in hand is finished.</summary>
    Transaction,

    /// <summary>The transaction in hand is rolled back and read again later.</summary>
    Now,
}
