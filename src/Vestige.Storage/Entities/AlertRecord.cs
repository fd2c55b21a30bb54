namespace Vestige.Storage.Entities;

/// <summary>An alert as stored.</summary>
public sealed class AlertRecord
{
    public long Number { get; set; }

    public required string Crossing { get; set; }

    /// <summary>All of it, as JSON.</summary>
    public required string Alert { get; set; }

    public long RaisedTicks { get; set; }

    /// <summary>When it was over; null while it stands.</summary>
    public long? OverTicks { get; set; }
}
