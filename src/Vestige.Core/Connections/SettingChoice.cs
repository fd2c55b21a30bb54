namespace Vestige.Core.Connections;

/// <summary>One of the values that a setting can have.</summary>
/// <param name="Value">As it is saved.</param>
/// <param name="Label">As a form shows it.</param>
public sealed record SettingChoice(string Value, string Label);
