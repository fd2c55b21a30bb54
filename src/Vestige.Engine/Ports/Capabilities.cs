namespace Vestige.Engine.Ports;

/// <summary>The ports that a connector must have for each capability that its kind claims.</summary>
public static class Capabilities
{
    private static readonly Dictionary<Capability, Func<IConnector, bool>> Ports = new()
    {
        [Capability.Source] = connector => Has<IProbe>(connector) && Has<ICatalogue>(connector) && Has<ILogSource>(connector),
        [Capability.Target] = connector => Has<IProbe>(connector) && Has<ITarget>(connector),
        [Capability.Preparation] = Has<IPreparation>,
        [Capability.Bench] = Has<IBench>,
        [Capability.Drills] = Has<IDrills>,
    };

    /// <summary>What a connector can do by the ports it has.</summary>
    public static IReadOnlyList<Capability> Of(IConnector connector)
    {
        ArgumentNullException.ThrowIfNull(connector);
        return [.. Ports.Where(pair => pair.Value(connector)).Select(pair => pair.Key)];
    }

    private static bool Has<T>(IConnector connector)
        where T : class => connector.Find<T>() is not null;
}
