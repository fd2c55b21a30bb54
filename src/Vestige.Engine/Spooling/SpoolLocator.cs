using Vestige.Core.Positions;

namespace Vestige.Engine.Spooling;

/// <summary>
/// Finds what a spool knows of a position. The last answer is kept, since the same place is asked for each second while a
/// crossing rests. For several threads; what they may overwrite is only that answer.
/// </summary>
internal sealed class SpoolLocator(Spool spool)
{
    private volatile SpooledPosition? known;

    /// <summary>Null when the spool does not hold the position.</summary>
    public async Task<SpooledPosition?> LocateAsync(LogPosition position, CancellationToken cancellation)
    {
        if (spool.Identity is null || !spool.Contains(position))
        {
            return null;
        }

        if (position >= spool.Last)
        {
            return new SpooledPosition(position, spool.Transactions, spool.Changes, null);
        }

        if (known is { NextCommittedAt: not null } last && last.Position == position)
        {
            return last;
        }

        var next = await spool.ReadAfter(position).TryReadAsync(1, cancellation);
        return known =
            next.Count == 0
                ? new SpooledPosition(position, spool.Transactions, spool.Changes, null)
                : new SpooledPosition(
                    position,
                    next[0].Transactions - (next[0].Last ? 1 : 0),
                    next[0].TotalChanges - next[0].Count,
                    next[0].CommittedAt
                );
    }

    /// <summary>After the files were read again.</summary>
    public void Forget() => known = null;
}
