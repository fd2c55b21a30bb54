namespace Vestige.Storage.Entities;

/// <summary>A change that was dropped or edited in quarantine, as stored; what it says of rows is encrypted.</summary>
public sealed class DecidedRecord
{
    /// <summary>In the order in which they were decided.</summary>
    public long Number { get; set; }

    public required string Crossing { get; set; }

    /// <summary>The source's table.</summary>
    public required string Table { get; set; }

    /// <summary>When it was decided, in UTC ticks.</summary>
    public long AtTicks { get; set; }

    /// <summary>All of it.</summary>
    public required byte[] Sealed { get; set; }
}
