namespace Vestige.Engine.Ports;

/// <summary>A source whose rows can be read as of one position of its log. Safe for several threads; what it opens is not.</summary>
public interface IRowSource
{
    /// <summary>Opens a view of all tables at one position, for that many readers at once.</summary>
    Task<ISourceSnapshot> OpenSnapshotAsync(int readers, CancellationToken cancellation);

    /// <summary>Opens a view of all rows at one position, for comparing them with a target's.</summary>
    Task<IRowsView> OpenViewAsync(CancellationToken cancellation);
}
