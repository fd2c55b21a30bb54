namespace Vestige.Storage.Entities;

/// <summary>Settings of the whole, by name.</summary>
public sealed class SettingRecord
{
    public required string Name { get; set; }

    /// <summary>As JSON.</summary>
    public required string Value { get; set; }

    /// <summary>Its secrets, encrypted; null when there are none.</summary>
    public byte[]? Secret { get; set; }
}
