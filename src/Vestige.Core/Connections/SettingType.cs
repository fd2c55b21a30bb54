namespace Vestige.Core.Connections;

/// <summary>What a person gives in a setting's field.</summary>
public enum SettingType
{
    /// <summary>Any text on one line.</summary>
    Text,

    /// <summary>A whole number within <see cref="SettingField.Least"/> and <see cref="SettingField.Most"/>.</summary>
    Number,

    /// <summary>One of <see cref="SettingField.Choices"/>.</summary>
    Choice,

    /// <summary>A text that is encrypted at rest and never read back. It is part of a connection's secret, not of its settings.</summary>
    Secret,
}
