namespace Vestige.Engine.Ports;

/// <summary>
/// A target that takes changes in the order of the log, such as a topic or a list of calls to make. It keeps no progress: Vestige does, and
/// after a failure writes again what came after it, each change with the identifier that it had. Safe for several threads; the writers it
/// opens are not.
/// </summary>
public interface IChangeSink : ITarget
{
    /// <summary>
    /// Takes the crossing over for the worker with that term. Throws <see cref="Faults.FencedException"/> when a higher one was here.
    /// </summary>
    Task<IChangeWriter> OpenWriterAsync(string crossing, long term, CancellationToken cancellation);
}
