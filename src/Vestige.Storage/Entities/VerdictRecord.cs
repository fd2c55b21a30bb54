namespace Vestige.Storage.Entities;

/// <summary>What comparing said of a table last.</summary>
public sealed class VerdictRecord
{
    public required string Crossing { get; set; }

    /// <summary>As schema.table.</summary>
    public required string Table { get; set; }

    /// <summary>JSON.</summary>
    public required string Verdict { get; set; }
}
