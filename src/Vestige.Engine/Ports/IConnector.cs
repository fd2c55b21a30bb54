namespace Vestige.Engine.Ports;

/// <summary>
/// One connected system. What it can do is asked for by the port that does it, so that no caller needs to know its kind.
/// Disposing it ends its connections. Safe for several threads.
/// </summary>
public interface IConnector : IAsyncDisposable
{
    /// <summary>The port of that type; null when the system has none. Reaches nothing, and gives the same one each time.</summary>
    T? Find<T>()
        where T : class;
}
