namespace Vestige.Storage.Entities;

/// <summary>Tables of a target that can be restored, as stored.</summary>
public sealed class UndoRecord
{
    public required string Id { get; set; }

    /// <summary>Since when, in UTC ticks.</summary>
    public long AtTicks { get; set; }

    /// <summary>All of it, as JSON.</summary>
    public required string Entry { get; set; }
}
