using Vestige.Core.Schemas;

namespace Vestige.Engine.Ports;

/// <summary>A system on which a person can run statements to try a crossing out. Safe for several threads.</summary>
public interface IBench
{
    /// <summary>
    /// Runs statements in one transaction. Throws <see cref="Faults.RequestRefusedException"/> with the system's CAs words when
    /// one fails; nothing is changed then.
    /// </summary>
    Task<BenchResult> RunAsync(string statements, CancellationToken cancellation);

    /// <summary>The tables as seen at the server itself, whatever drill is on.</summary>
    Task<IReadOnlyList<TableName>> ReadTablesAsync(CancellationToken cancellation);
}
