using Microsoft.Extensions.Logging;
using Vestige.Engine.Events;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Commands;

/// <summary>What all parts of one engine work with.</summary>
/// <param name="Connections">The systems behind connections.</param>
/// <param name="Stores">What is kept.</param>
/// <param name="Secrets">What is encrypted and masked with.</param>
/// <param name="Options">How it is set up.</param>
internal sealed record EngineServices(IConnections Connections, EngineStores Stores, EngineSecrets Secrets, EngineOptions Options)
{
    public required EventLog Events { get; init; }

    public required TimeProvider Clock { get; init; }

    public required Random Random { get; init; }

    public required ILogger Logger { get; init; }
}
