using Vestige.Core.Connections;

namespace Vestige.Engine.Ports;

/// <summary>A fault that can be put on purpose into a system, or lifted again, as a page offers it.</summary>
/// <param name="Name">Names it among the drills of its system, together with <paramref name="Values"/>.</param>
/// <param name="Says">What it does.</param>
/// <param name="Action">What the button says.</param>
public sealed record Drill(string Name, string Says, string Action)
{
    /// <summary>Whether the fault is there now.</summary>
    public bool IsOn { get; init; }

    /// <summary>Whether something is lost by it.</summary>
    public bool IsDestructive { get; init; }

    /// <summary>What a person has to give.</summary>
    public IReadOnlyList<SettingField> Fields { get; init; } = [];

    /// <summary>What goes with it as it is, by name.</summary>
    public IReadOnlyDictionary<string, string> Values { get; init; } = new Dictionary<string, string>();
}
