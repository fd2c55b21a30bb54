namespace Vestige.Storage.Entities;

/// <summary>How good forecasts of one kind were for a crossing, as stored.</summary>
public sealed class JudgedRecord
{
    public required string Crossing { get; set; }

    /// <summary>What was forecast, by name.</summary>
    public required string Kind { get; set; }

    /// <summary>The latest forecasts that were held against the outcome, as JSON.</summary>
    public required string Judged { get; set; }
}
