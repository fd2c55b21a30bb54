using Vestige.Core.Positions;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Spooling;

/// <summary>Reads a spool forward. Used by one caller at a time.</summary>
public sealed class SpoolReader
{
    private readonly Spool spool;
    private readonly ISpoolCipher cipher;
    private readonly LogPosition after;
    private readonly bool withinBranch;
    private long? file;
    private long sequence;

    internal SpoolReader(Spool spool, ISpoolCipher cipher, LogPosition after, bool withinBranch)
    {
        this.spool = spool;
        this.cipher = cipher;
        this.after = after;
        this.withinBranch = withinBranch;
    }

    /// <summary>Whether the branch has ended here, and all of it was read; only of a reader that stops there.</summary>
    public bool AtBranchEnd { get; private set; }

    /// <summary>Waits until there is something, then returns it; empty at the end of the branch.</summary>
    public async Task<IReadOnlyList<SpooledFragment>> ReadAsync(int bytes, CancellationToken cancellation)
    {
        while (true)
        {
            var grown = spool.Grown.Next;
            var read = await TryReadAsync(bytes, cancellation);
            if (read.Count > 0 || AtBranchEnd)
            {
                return read;
            }

            await grown.WaitAsync(cancellation);
        }
    }

    /// <summary>Returns what there is, at most about so many bytes; empty when everything durable was read.</summary>
    public async Task<IReadOnlyList<SpooledFragment>> TryReadAsync(int bytes, CancellationToken cancellation)
    {
        while (true)
        {
            if (AtBranchEnd || (file is null && !await SeekAsync(cancellation)))
            {
                return [];
            }

            var (open, branch, successor, visible) = spool.FileOf(file!.Value);
            var records = sequence >= visible ? [] : Visible(await open.ReadAsync(sequence, bytes, cancellation), visible);
            if (records.Count > 0)
            {
                sequence = records[^1].Sequence;
                var fragments = Decode(records, branch);
                if (fragments.Count > 0)
                {
                    return fragments;
                }
            }
            else if (successor is null)
            {
                return [];
            }
            else if (withinBranch && spool.FileOf(successor.Value).Branch != branch)
            {
                AtBranchEnd = true;
            }
            else
            {
                file = successor;
                sequence = 0;
            }
        }
    }

    private static List<SpoolRecord> Visible(IReadOnlyList<SpoolRecord> records, long visible) =>
        [.. records.TakeWhile(record => record.Sequence <= visible)];

    private async Task<bool> SeekAsync(CancellationToken cancellation)
    {
        var found = spool.FileAfter(after);
        if (found is null)
        {
            return false;
        }

        if (found.Header.Branch == after.Branch)
        {
            sequence = (await found.File.FindAsync(after.Offset, cancellation))?.Sequence ?? 0;
        }
        else if (withinBranch)
        {
            AtBranchEnd = true;
            return false;
        }

        file = found.Number;
        return true;
    }

    private List<SpooledFragment> Decode(IReadOnlyList<SpoolRecord> records, int branch)
    {
        var fragments = new List<SpooledFragment>();
        foreach (var record in records)
        {
            foreach (var fragment in FragmentCodec.Read(cipher.Open(record.Body.Span), branch, record.Transactions, record.Changes))
            {
                if (fragment.Position > after)
                {
                    fragments.Add(fragment);
                }
            }
        }

        return fragments;
    }
}
