namespace Vestige.Engine.Ports;

/// <summary>One worker's hold on a target that takes changes in order.</summary>
public interface IChangeWriter : ISinkWriter
{
    /// <summary>
    /// Writes transactions, or parts of them, in their order, and returns when all of it is durable. Throws
    /// <see cref="Faults.RowRefusedException"/> when a change is not taken.
    /// </summary>
    Task WriteAsync(IReadOnlyList<OrderedTransaction> transactions, CancellationToken cancellation);
}
