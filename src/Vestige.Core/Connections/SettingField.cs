namespace Vestige.Core.Connections;

/// <summary>A setting of a kind of connection, as forms draw it and as requests are checked by it. Immutable.</summary>
/// <param name="Name">The name in the definition and in the API; unique within a kind.</param>
/// <param name="Label">The name on a form, a noun of a few words.</param>
public sealed record SettingField(string Name, string Label)
{
    public SettingType Type { get; init; }

    public SettingWidth Width { get; init; }

    /// <summary>Whether a connection cannot do without it.</summary>
    public bool Required { get; init; }

    /// <summary>What holds where it is left out; null where nothing does.</summary>
    public string? Default { get; init; }

    /// <summary>Shown in the empty field; null for nothing.</summary>
    public string? Example { get; init; }

    /// <summary>A sentence below the field; null for none.</summary>
    public string? Help { get; init; }

    /// <summary>
    /// Whether a secret goes to another server, for another role or under other protection when it is changed: the saved secret
    /// is then not used with the new value.
    /// </summary>
    public bool DirectsSecret { get; init; }

    /// <summary>Whether it is the name of something in the outside system, and so set in the font of names.</summary>
    public bool IsName { get; init; }

    /// <summary>For numbers.</summary>
    public long Least { get; init; }

    /// <summary>For numbers.</summary>
    public long Most { get; init; } = long.MaxValue;

    /// <summary>For choices.</summary>
    public IReadOnlyList<SettingChoice> Choices { get; init; } = [];

    public bool IsSecret => Type == SettingType.Secret;
}
