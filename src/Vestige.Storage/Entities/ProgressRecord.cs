namespace Vestige.Storage.Entities;

/// <summary>How far a crossing is whose target does not keep that itself.</summary>
public sealed class ProgressRecord
{
    public required string Crossing { get; set; }

    /// <summary>The term of the worker that holds it.</summary>
    public long Term { get; set; }

    /// <summary>The server and the timeline of the log; null before a first load.</summary>
    public string? Server { get; set; }

    public long? Timeline { get; set; }

    /// <summary>The offset in that log; null before a first load has ended. The bits of an unsigned number.</summary>
    public long? Offset { get; set; }

    /// <summary>Where the log can be continued, in the source's words; null where the offset says that.</summary>
    public string? Token { get; set; }

    /// <summary>The tables, as JSON.</summary>
    public required string Tables { get; set; }
}
