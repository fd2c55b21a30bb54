namespace Vestige.Storage.Entities;

/// <summary>By when a crossing had applied how far, within one hour, as stored.</summary>
public sealed class AppliedRecord
{
    public required string Crossing { get; set; }

    /// <summary>The beginning of the hour, in seconds since 1970.</summary>
    public long Start { get; set; }

    /// <summary>Positions and times, packed.</summary>
    public required byte[] Times { get; set; }
}
