namespace Vestige.Engine.Ports;

/// <summary>A source whose rows can be read for comparing them with a target's. Safe for several threads; what it opens is not.</summary>
public interface ISourceViews
{
    /// <summary>Opens a view of all rows at one position.</summary>
    /// <param name="branch">The branch of the log that its position is on.</param>
    /// <param name="cancellation">Gives up.</param>
    Task<IRowsView> OpenViewAsync(int branch, CancellationToken cancellation);
}
