using Vestige.Engine.Ports;

namespace Vestige.Tests.Shared;

/// <summary>A connector made of ports that a test has at hand; disposing it disposes none of them.</summary>
public sealed class ConnectorOfPorts(params object[] ports) : IConnector
{
    public T? Find<T>()
        where T : class => ports.OfType<T>().FirstOrDefault();

    public ValueTask DisposeAsync() => ValueTask.CompletedTask;
}
