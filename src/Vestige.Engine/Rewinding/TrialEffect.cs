namespace Vestige.Engine.Rewinding;

/// <summary>What another definition would have made of a change that was applied.</summary>
public enum TrialEffect
{
    /// <summary>The same.</summary>
    Same,

    /// <summary>Nothing, where something was applied.</summary>
    LeftOut,

    /// <summary>Something, where nothing was applied.</summary>
    Added,

    /// <summary>Other rows, values or columns.</summary>
    Changed,

    /// <summary>Its treatment has no value for the row.</summary>
    Refused,
}
