namespace Vestige.Storage.Entities;

/// <summary>Something that happened, as stored.</summary>
public sealed class EventRecord
{
    public long Id { get; set; }

    /// <summary>UTC ticks, so that SQLite can order it.</summary>
    public long AtTicks { get; set; }

    public string? Crossing { get; set; }

    public string? Connection { get; set; }

    public required string Kind { get; set; }

    public required string Text { get; set; }

    public required string By { get; set; }
}
