namespace Vestige.Engine.Ports;

/// <summary>A target whose rows can be read for comparing them with a source's. Safe for several threads; what it opens is not.</summary>
public interface ITargetViews
{
    /// <summary>Opens a view of all rows, with what the crossing had applied at the same moment. Takes nothing over.</summary>
    Task<IRowsView> OpenViewAsync(string crossing, CancellationToken cancellation);
}
