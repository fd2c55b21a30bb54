using Vestige.Core.Crossings;
using Vestige.Core.Readiness;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Ports;

/// <summary>
/// What every target tells, in whatever shape it takes changes: <see cref="ITableTarget"/>, <see cref="ITableSink"/> or
/// <see cref="IChangeSink"/>. Safe for several threads.
/// </summary>
public interface ITarget
{
    /// <summary>How often a change reaches it.</summary>
    Delivery Delivery { get; }

    /// <summary>The name that a source's table gets here if nothing else is said.</summary>
    TableName NameFor(TableName source);

    /// <summary>What must hold so that these tables of its own can be written. Those in
    /// <paramref name="begun"/> are this crossing's own; of others that are there already, <paramref name="existing"/> says what they
    /// mean, and without it they keep it from starting when they have rows.</summary>
    Task<IReadOnlyList<ReadinessCheck>> CheckTargetAsync(
        IReadOnlyList<TableSchema> tables,
        IReadOnlyDictionary<TableName, ExistingRows> existing,
        IReadOnlySet<TableName> begun,
        CancellationToken cancellation
    );
}
