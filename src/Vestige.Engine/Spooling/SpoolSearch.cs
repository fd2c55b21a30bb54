using System.Runtime.CompilerServices;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Spooling;

/// <summary>
/// Looks through a spool for what may hold changes of some keys, beside whoever writes and reads it: file by file, passed over by
/// the filter of the file, then record by record, passed over by that of the record.
/// </summary>
internal sealed class SpoolSearch(Spool spool, ISpoolCipher cipher)
{
    /// <summary>The numbers of the files, the newest first.</summary>
    public IEnumerable<long> NewestFirst => spool.FileNumbers.Reverse();

    /// <summary>
    /// The fragments of every record of a file whose filter does not exclude all of the hashes, in log order; others may be among them.
    /// Without hashes, all of them.
    /// </summary>
    public async IAsyncEnumerable<SpooledFragment> FindAsync(
        long number,
        IReadOnlyCollection<ulong>? hashes,
        [EnumeratorCancellation] CancellationToken cancellation
    )
    {
        if (!MayHold(await UseAsync(number, file => file.ReadFilterAsync(cancellation), ReadOnlyMemory<byte>.Empty), hashes))
        {
            yield break;
        }

        var (visible, branch) = await UseAsync(
            number,
            _ => Task.FromResult((spool.FileOf(number).Visible, spool.FileOf(number).Branch)),
            (0L, 0)
        );
        foreach (
            var record in (await UseAsync(number, file => file.ReadFiltersAsync(cancellation), [])).Where(record =>
                record.Sequence <= visible && MayHold(record.Filter, hashes)
            )
        )
        {
            cancellation.ThrowIfCancellationRequested();
            foreach (var whole in await UseAsync(number, file => file.ReadAsync(record.Sequence - 1, 1, cancellation), []))
            {
                foreach (
                    var fragment in whole.Sequence == record.Sequence
                        ? FragmentCodec.Read(cipher.Open(whole.Body.Span), branch, whole.Transactions, whole.Changes)
                        : []
                )
                {
                    yield return fragment;
                }
            }
        }
    }

    /// <summary>Without a filter nothing is excluded.</summary>
    private bool MayHold(ReadOnlyMemory<byte> secret, IReadOnlyCollection<ulong>? hashes)
    {
        if (secret.IsEmpty || hashes is null)
        {
            return true;
        }

        var filter = cipher.Open(secret.Span);
        foreach (var hash in hashes)
        {
            if (KeyFilter.MayHold(filter, hash))
            {
                return true;
            }
        }

        return false;
    }

    /// <summary>Reads of a file, which may be dropped meanwhile.</summary>
    private async Task<T> UseAsync<T>(long number, Func<ISpoolFile, Task<T>> read, T dropped)
    {
        try
        {
            return await read(spool.FileOf(number).File);
        }
        catch (PortException) when (!spool.FileNumbers.Contains(number))
        {
            return dropped;
        }
    }
}
