namespace Vestige.Storage.Entities;

/// <summary>What is to be applied again of a crossing, as stored.</summary>
public sealed class RewindRecord
{
    public required string Crossing { get; set; }

    /// <summary>All of it, as JSON.</summary>
    public required string Request { get; set; }
}
