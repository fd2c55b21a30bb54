namespace Vestige.Engine.Ports;

/// <summary>A source whose rows can be read as of one position of its log. Safe for several threads; what it opens is not.</summary>
public interface IRowSource
{
    /// <summary>Opens a view of all tables at one position, for that many readers at once.</summary>
    /// <param name="readers">How many.</param>
    /// <param name="branch">The branch of the log that its position is on.</param>
    /// <param name="cancellation">Gives up.</param>
    Task<ISourceSnapshot> OpenSnapshotAsync(int readers, int branch, CancellationToken cancellation);
}
