namespace Vestige.Core.Lag;

/// <summary>Why a crossing applies nothing although something waits, without anything being slow.</summary>
public enum OwnRest
{
    /// <summary>It loads tables; changes wait until they are loaded.</summary>
    Load,

    /// <summary>A person or its schedule has brought it to rest.</summary>
    Pause,

    /// <summary>A window of rest, or the limit of changes a second.</summary>
    Rule,
}
