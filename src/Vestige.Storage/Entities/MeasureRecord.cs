namespace Vestige.Storage.Entities;

/// <summary>A block of a crossing's measures, as stored.</summary>
public sealed class MeasureRecord
{
    public required string Crossing { get; set; }

    /// <summary>The length of a slot in seconds.</summary>
    public int Step { get; set; }

    /// <summary>The beginning of the block, in seconds since 1970.</summary>
    public long Start { get; set; }

    /// <summary>The slots, packed.</summary>
    public required byte[] Slots { get; set; }
}
