using Vestige.Core.Positions;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Capturing;

/// <summary>
/// Reads a source as of positions on the branch that its spool reads. While a connection is being moved to another system, what is
/// read may be of that one already: then the read is given up, since its position would be put on a branch that it is not on.
/// </summary>
internal static class BranchReads
{
    /// <summary>The end of the log. Throws a transient <see cref="PortException"/> while the source is another than the spool's.</summary>
    public static async Task<LogPosition> HeadAsync(SourceSystem source, Spool? spool, CancellationToken cancellation)
    {
        var branch = spool?.Branch ?? 0;
        var sample = await source.Log.SampleAsync(LogPosition.Zero.On(branch), cancellation);
        Check(spool, branch, sample.Identity);
        return sample.Head;
    }

    /// <summary>A snapshot of all tables. Throws as <see cref="HeadAsync"/> does.</summary>
    public static async Task<ISourceSnapshot> SnapshotAsync(SourceSystem source, Spool spool, int readers, CancellationToken cancellation)
    {
        var branch = spool.Branch;
        var snapshot = await source.Rows.OpenSnapshotAsync(readers, branch, cancellation);
        await CheckAsync(source, spool, branch, snapshot, cancellation);
        return snapshot;
    }

    /// <summary>A view of all rows. Throws as <see cref="HeadAsync"/> does.</summary>
    public static async Task<IRowsView> ViewAsync(SourceSystem source, Spool spool, CancellationToken cancellation)
    {
        var branch = spool.Branch;
        var view = await source.Views.OpenViewAsync(branch, cancellation);
        await CheckAsync(source, spool, branch, view, cancellation);
        return view;
    }

    private static async Task CheckAsync(
        SourceSystem source,
        Spool spool,
        int branch,
        IAsyncDisposable opened,
        CancellationToken cancellation
    )
    {
        try
        {
            Check(spool, branch, (await source.Log.SampleAsync(LogPosition.Zero.On(branch), cancellation)).Identity);
        }
        catch
        {
            await opened.DisposeAsync();
            throw;
        }
    }

    private static void Check(Spool? spool, int branch, LogIdentity found)
    {
        if (spool?.Branches is { Count: > 0 } branches && branches[branch].Identity != found)
        {
            throw new PortException($"The source's log is now {found}; the spool still reads {branches[branch].Identity}.")
            {
                Transient = true,
                Remedy = "Retrying automatically.",
            };
        }
    }
}
