using Vestige.Engine.Faults;

namespace Vestige.Engine.Ports;

/// <summary>
/// A connection as the target of crossings: the ports of its connector that a target needs. A port that it lacks throws
/// <see cref="RequestRefusedException"/> when it is asked for. Safe for several threads.
/// </summary>
/// <param name="connection">The connection's name.</param>
/// <param name="connector">The connector behind it.</param>
public sealed class TargetSystem(string connection, IConnector connector)
{
    public IProbe Probe => Need<IProbe>("cannot be tested");

    public ICatalogue Catalogue => Need<ICatalogue>("has no tables");

    public IRowLookup Lookup => Need<IRowLookup>("cannot be looked into row by row");

    public ITableTarget Tables => Need<ITableTarget>("cannot be written");

    private T Need<T>(string without)
        where T : class =>
        connector.Find<T>()
        ?? throw new RequestRefusedException($"{connection} {without}.") { Remedy = "Choose a connection that can be a target." };
}
