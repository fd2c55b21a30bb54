using Vestige.Engine.Ports;

namespace Vestige.Tests.Shared;

/// <summary>A connector as source and as target, for tests that need no name of it.</summary>
public static class ConnectorSides
{
    extension(IConnector connector)
    {
        public SourceSystem Source => new("the source", connector);

        public TargetSystem Target => new("the target", connector);
    }
}
