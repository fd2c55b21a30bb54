using Vestige.Core.Positions;

namespace Vestige.Engine.Ports;

/// <summary>
/// One file of a spool: one writer, any number of readers at the same time. Readers see only what was synced.
/// </summary>
public interface ISpoolFile : IAsyncDisposable
{
    /// <summary>Its size on disk, or a close estimate.</summary>
    long Bytes { get; }

    /// <summary>Adds a record after the last one. Not durable and not seen by readers until <see cref="SyncAsync"/>.</summary>
    Task AppendAsync(SpoolRecord record, CancellationToken cancellation);

    /// <summary>
    /// Makes all that was appended durable, all of it or (when it throws) a part that <see cref="LastAsync"/> tells after
    /// reopening.
    /// </summary>
    Task SyncAsync(CancellationToken cancellation);

    /// <summary>Everything but data, in order.</summary>
    Task<IReadOnlyList<SpoolRecord>> ReadSideAsync(CancellationToken cancellation);

    /// <summary>Data records after a sequence number: at least one when there is one, at most about <paramref name="bytes"/>.</summary>
    Task<IReadOnlyList<SpoolRecord>> ReadAsync(long afterSequence, int bytes, CancellationToken cancellation);

    /// <summary>Notes which keys the whole file may hold changes of, encrypted; durable with the next <see cref="SyncAsync"/>.</summary>
    Task KeepFilterAsync(ReadOnlyMemory<byte> filter, CancellationToken cancellation);

    /// <summary>What <see cref="KeepFilterAsync"/> noted; empty when nothing was.</summary>
    Task<ReadOnlyMemory<byte>> ReadFilterAsync(CancellationToken cancellation);

    /// <summary>The filters of all data records, in order; of the records only the sequence numbers.</summary>
    Task<IReadOnlyList<SpoolRecord>> ReadFiltersAsync(CancellationToken cancellation);

    /// <summary>The last record, or the last data record that ends a transaction; without its body. Null when there is none.</summary>
    Task<SpoolRecord?> LastAsync(bool complete, CancellationToken cancellation);

    /// <summary>
    /// The last complete data record whose number is at or before the given one; without its body. Null when there is none.
    /// </summary>
    Task<SpoolRecord?> FindAsync(ulong number, CancellationToken cancellation);

    /// <summary>Removes, durably, every record after the sequence number, and forgets what was appended and not synced.</summary>
    Task CutAsync(long afterSequence, CancellationToken cancellation);
}
