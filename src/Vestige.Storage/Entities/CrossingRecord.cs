namespace Vestige.Storage.Entities;

/// <summary>A crossing as stored.</summary>
public sealed class CrossingRecord
{
    public required string Name { get; set; }

    /// <summary>The definition as JSON.</summary>
    public required string Definition { get; set; }

    /// <summary>What a person last asked for: draft, run, pause, stop.</summary>
    public required string Desired { get; set; }

    public required string By { get; set; }

    public DateTimeOffset Since { get; set; }

    /// <summary>The mark up to which it goes before it stops, as JSON; null when there is none.</summary>
    public string? Until { get; set; }

    /// <summary>Grows with each change of the definition; the ETag of the API.</summary>
    public long Version { get; set; }
}
