namespace Vestige.Storage.Entities;

/// <summary>A change in quarantine as stored; what it says of rows is encrypted.</summary>
public sealed class WaitingRecord
{
    public required string Crossing { get; set; }

    /// <summary>Unique within the crossing.</summary>
    public required string Id { get; set; }

    /// <summary>All of it.</summary>
    public required byte[] Sealed { get; set; }
}
