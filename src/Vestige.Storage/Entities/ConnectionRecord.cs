namespace Vestige.Storage.Entities;

/// <summary>A connection as stored.</summary>
public sealed class ConnectionRecord
{
    public required string Name { get; set; }

    public required string Kind { get; set; }

    /// <summary>Settings as a JSON object of texts.</summary>
    public required string Settings { get; set; }

    /// <summary>The secret, encrypted; null when there is none. Never leaves the store in clear but to a connector.</summary>
    public byte[]? Secret { get; set; }

    public DateTimeOffset CreatedAt { get; set; }
}
