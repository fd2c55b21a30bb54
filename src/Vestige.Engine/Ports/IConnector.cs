namespace Vestige.Engine.Ports;

/// <summary>One connected system, as source and as target. Disposing it ends its connections.</summary>
public interface IConnector : IAsyncDisposable
{
    ISource Source { get; }

    ITarget Target { get; }
}
