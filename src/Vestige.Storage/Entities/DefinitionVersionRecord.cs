namespace Vestige.Storage.Entities;

/// <summary>A definition as it was kept at one time.</summary>
public sealed class DefinitionVersionRecord
{
    public required string Crossing { get; set; }

    /// <summary>As <see cref="CrossingRecord.Version"/> was then.</summary>
    public long Version { get; set; }

    /// <summary>The definition as JSON.</summary>
    public required string Definition { get; set; }

    public required string By { get; set; }

    public long AtTicks { get; set; }
}
