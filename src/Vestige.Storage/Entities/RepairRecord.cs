namespace Vestige.Storage.Entities;

/// <summary>A repair as stored; its rows are encrypted.</summary>
public sealed class RepairRecord
{
    public required string Crossing { get; set; }

    /// <summary>Unique within the crossing.</summary>
    public required string Id { get; set; }

    /// <summary>When it was done, in UTC ticks.</summary>
    public long AtTicks { get; set; }

    /// <summary>All of it.</summary>
    public required byte[] Sealed { get; set; }
}
