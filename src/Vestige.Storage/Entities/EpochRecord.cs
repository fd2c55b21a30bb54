namespace Vestige.Storage.Entities;

/// <summary>The last epoch given to a worker of a crossing; kept when the crossing is removed.</summary>
public sealed class EpochRecord
{
    public required string Crossing { get; set; }

    public long Epoch { get; set; }
}
