namespace Vestige.Storage.Entities;

/// <summary>A run of a crossing as stored.</summary>
public sealed class RunRecord
{
    public required string Crossing { get; set; }

    public long BeganTicks { get; set; }

    /// <summary>All of it, as JSON.</summary>
    public required string Run { get; set; }

    /// <summary>Whether it continues.</summary>
    public bool Open { get; set; }
}
