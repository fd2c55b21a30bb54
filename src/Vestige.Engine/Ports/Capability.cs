namespace Vestige.Engine.Ports;

/// <summary>What a kind of connection can do, as people choose by it. <see cref="Capabilities"/> names the ports behind each.</summary>
public enum Capability
{
    /// <summary>Crossings can read it.</summary>
    Source,

    /// <summary>Crossings can write it.</summary>
    Target,

    /// <summary>Vestige writes a script that prepares it.</summary>
    Preparation,

    /// <summary>Statements can be run on it.</summary>
    Bench,

    /// <summary>Faults can be put into it on purpose.</summary>
    Drills,
}
