using Vestige.Engine.Faults;
using Vestige.Engine.Shapes;

namespace Vestige.Engine.Ports;

/// <summary>
/// A connection as the target of crossings: the ports of its connector that a target needs. A port that it lacks throws
/// <see cref="RequestRefusedException"/> when it is asked for. Safe for several threads.
/// </summary>
/// <param name="connection">The connection's name.</param>
/// <param name="connector">The connector behind it.</param>
/// <param name="kept">Where Vestige keeps the progress of targets that do not; null where there are none such.</param>
public sealed class TargetSystem(string connection, IConnector connector, IProgressStore? kept = null)
{
    /// <summary>What it tells in whatever shape it takes changes.</summary>
    public ITarget Target => Need<ITarget>("cannot be written");

    /// <summary>
    /// Where it is kept how far crossings into it are. Of a table sink that is a part of it.
    /// </summary>
    public IProgressStore Progress =>
        connector.Find<IProgressStore>() ?? (connector.Find<ITableSink>() is { } sink ? new TableSinkProgress(sink, Kept) : Kept);

    /// <summary>A port that not every target has; null where it is not there.</summary>
    public T? Find<T>()
        where T : class => connector.Find<T>();

    public IProbe Probe => Need<IProbe>("cannot be tested");

    public ICatalogue Catalogue => Need<ICatalogue>("has no tables");

    public ITargetViews Views => Need<ITargetViews>("cannot be read for comparing it");

    public IRowLookup Lookup => Need<IRowLookup>("cannot be looked into row by row");

    public ITableTarget Tables => Need<ITableTarget>("does not hold tables that are written in transactions");

    private IProgressStore Kept =>
        kept ?? throw new InvalidOperationException($"{connection} keeps no progress, and there is no other place for it.");

    private T Need<T>(string without)
        where T : class =>
        connector.Find<T>()
        ?? throw new RequestRefusedException($"{connection} {without}.") { Remedy = "Choose a connection that can be a target." };
}
