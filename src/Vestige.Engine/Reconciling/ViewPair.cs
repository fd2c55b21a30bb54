using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Capturing;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Reconciling;

/// <summary>
/// The views of both sides, and what the log says happened between their positions. While a crossing runs, the target's view is opened
/// once it has applied all that the source's shows; at rest it is behind, and the log is read back to it.
/// </summary>
internal sealed class ViewPair : IAsyncDisposable
{
    private readonly Spool spool;
    private readonly string holder;

    private ViewPair(Spool spool, string holder, IRowsView source, IRowsView target, TargetProgress progress, DateTimeOffset openedAt)
    {
        (this.spool, this.holder, Source, Target, Progress, OpenedAt) = (spool, holder, source, target, progress, openedAt);
    }

    public IRowsView Source { get; }

    public IRowsView Target { get; }

    public DateTimeOffset OpenedAt { get; }

    /// <summary>What is found holds as of here: the position of the target's view.</summary>
    public LogPosition Position => Progress.Position!.Value;

    /// <summary>What the target knew of the crossing then.</summary>
    public TargetProgress Progress { get; }

    /// <summary>Opens both.</summary>
    /// <param name="request">Who is compared.</param>
    /// <param name="now">The time.</param>
    /// <param name="cancellation">Gives up.</param>
    public static async Task<ViewPair> OpenAsync(ViewRequest request, DateTimeOffset now, CancellationToken cancellation)
    {
        var name = $"compare/{Guid.NewGuid():N}";
        request.Spool.Retain(name, request.Applied() ?? throw Unready(request.Crossing));
        IRowsView? source = null;
        try
        {
            source = await BranchReads.ViewAsync(request.Source, request.Spool, cancellation);
            await request.PassAsync(source.Position!.Value, cancellation);
            var target = await request.Target.Views.OpenViewAsync(request.Crossing, cancellation);
            var progress = target.Progress.Match(request.Spool.Branches);
            if (progress.Position is not { Branch: >= 0 })
            {
                await target.DisposeAsync();
                throw Unready(request.Crossing);
            }

            return new ViewPair(request.Spool, name, source, target, progress, now);
        }
        catch
        {
            request.Spool.Release(name);
            await (source?.DisposeAsync() ?? ValueTask.CompletedTask);
            throw;
        }
    }

    /// <summary>What happened to tables between both positions.</summary>
    public Task<IReadOnlyDictionary<TableName, TableHistory>> HistoryAsync(
        IReadOnlyDictionary<TableName, TableSchema> forms,
        CancellationToken cancellation
    )
    {
        var (after, upTo) = (LogPosition.Min(Source.Position!.Value, Position), LogPosition.Max(Source.Position.Value, Position));
        if (after < spool.Begin || spool.Last < upTo)
        {
            // Another process may have taken over the target, and gone on from a log that is not here.
            throw new Faults.PortException("The log between both sides is not in the spool.") { Remedy = "Compare again." };
        }

        return LogBetween.ReadAsync(spool, after, upTo, forms, cancellation);
    }

    /// <summary>The rows of a table that changed between both positions.</summary>
    public async Task<IReadOnlyList<TouchedRow>> TouchedAsync(TableSchema form, TableHistory history, CancellationToken cancellation)
    {
        var inView = form.HasKey && history.Keys.Count > 0 ? await Source.FindAsync(form, history.Keys, cancellation) : [];
        return [.. Source.Position <= Position ? history.After(inView) : history.Before(inView)];
    }

    public async ValueTask DisposeAsync()
    {
        spool.Release(holder);
        await Source.DisposeAsync();
        await Target.DisposeAsync();
    }

    private static Faults.PortException Unready(string crossing) =>
        new($"{crossing} has no rows to compare yet.") { Remedy = "Wait until it has loaded its tables." };
}
