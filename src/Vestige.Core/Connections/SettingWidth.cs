namespace Vestige.Core.Connections;

/// <summary>How wide a setting's field is drawn. Two fields that follow each other and are not whole share a line.</summary>
public enum SettingWidth
{
    Whole,
    Part,

    /// <summary>No wider than a number.</summary>
    Short,
}
