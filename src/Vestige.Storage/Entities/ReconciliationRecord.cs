namespace Vestige.Storage.Entities;

/// <summary>A comparison as stored; what it says of rows is encrypted.</summary>
public sealed class ReconciliationRecord
{
    public required string Crossing { get; set; }

    /// <summary>Unique within the crossing.</summary>
    public required string Id { get; set; }

    /// <summary>When it began, in UTC ticks.</summary>
    public long BeganTicks { get; set; }

    /// <summary>JSON of all but segments and rows.</summary>
    public required string Head { get; set; }

    /// <summary>Whether it runs.</summary>
    public bool Open { get; set; }

    /// <summary>All of it.</summary>
    public required byte[] Sealed { get; set; }
}
