namespace Vestige.Engine.Ports;

/// <summary>
/// A target that holds rows in tables and writes each table in one step with its progress, but no two tables together, such as a lake. How
/// far the crossing is as a whole is kept by Vestige. Safe for several threads; the writers it opens are not.
/// </summary>
public interface ITableSink : ITarget
{
    /// <summary>
    /// Takes the crossing over for the worker with that term. Throws <see cref="Faults.FencedException"/> when a higher one was here.
    /// </summary>
    Task<ITableWriter> OpenWriterAsync(string crossing, long term, CancellationToken cancellation);

    /// <summary>The progress of the crossing's tables, without taking it over.</summary>
    Task<IReadOnlyList<TableProgress>> ReadTablesProgressAsync(string crossing, CancellationToken cancellation);

    /// <summary>Forgets the progress of the crossing's tables; rows stay.</summary>
    Task ForgetTablesAsync(string crossing, CancellationToken cancellation);
}
