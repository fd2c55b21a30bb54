namespace Vestige.Storage.Entities;

/// <summary>A message of an alert on one channel.</summary>
public sealed class AlertMessageRecord
{
    public long Id { get; set; }

    public required string Channel { get; set; }

    /// <summary>The alert's number; 0 for a test.</summary>
    public long Number { get; set; }

    /// <summary>The alert as it was then, as JSON.</summary>
    public required string Alert { get; set; }

    public long MadeTicks { get; set; }

    public int Attempts { get; set; }

    /// <summary>When it is to be tried next; null when it was sent or given up.</summary>
    public long? DueTicks { get; set; }

    /// <summary>When it was sent; null when it was not.</summary>
    public long? SentTicks { get; set; }

    /// <summary>What the other side last answered.</summary>
    public string? Answer { get; set; }
}
