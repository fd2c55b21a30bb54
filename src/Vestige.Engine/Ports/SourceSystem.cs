using Vestige.Engine.Faults;

namespace Vestige.Engine.Ports;

/// <summary>
/// A connection as the source of crossings: the ports of its connector that a source needs. A port that it lacks throws
/// <see cref="RequestRefusedException"/> when it is asked for. Safe for several threads.
/// </summary>
/// <param name="connection">The connection's name.</param>
/// <param name="connector">The connector behind it.</param>
public sealed class SourceSystem(string connection, IConnector connector)
{
    public IProbe Probe => Need<IProbe>("cannot be tested");

    public ICatalogue Catalogue => Need<ICatalogue>("has no tables");

    public IRowLookup Lookup => Need<IRowLookup>("cannot be looked into row by row");

    public ILogSource Log => Need<ILogSource>("has no log that Vestige can read");

    public ISourceViews Views => Need<ISourceViews>("cannot be read for comparing it");

    /// <summary>A port that not every source has; null where it is not there.</summary>
    public T? Find<T>()
        where T : class => connector.Find<T>();

    public IRowSource Rows => Need<IRowSource>("cannot be read as of one position of its log");

    private T Need<T>(string without)
        where T : class =>
        connector.Find<T>()
        ?? throw new RequestRefusedException($"{connection} {without}.") { Remedy = "Choose a connection that can be a source." };
}
