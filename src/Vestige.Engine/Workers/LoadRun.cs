using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Engine.Events;
using Vestige.Engine.Following;
using Vestige.Engine.Loading;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Workers;

/// <summary>One load beside the stream. It begins at once and never throws: how it ended is told by <see cref="Failure"/>.</summary>
internal sealed class LoadRun : IAsyncDisposable
{
    private readonly WorkerContext context;
    private readonly ITargetSession stream;
    private readonly RouteEnds ends;
    private readonly AsyncSignal ended;
    private readonly CancellationTokenSource stopping = new();
    private volatile ITargetSession? own;
    private IReadOnlyList<TableProgress>? told;
    private bool disposed;

    /// <param name="context">What the worker works with.</param>
    /// <param name="stream">The session of the stream, which several may use; the load has one beside it where the target lets it.</param>
    /// <param name="ends">The two systems.</param>
    /// <param name="tables">The source's tables.</param>
    /// <param name="ended">Beats when a table has been loaded, and when all is over.</param>
    public LoadRun(WorkerContext context, ITargetSession stream, RouteEnds ends, IReadOnlyList<TableName> tables, AsyncSignal ended)
    {
        (this.context, this.stream, this.ends, this.ended) = (context, stream, ends, ended);
        Tables = tables;
        Since = stream.Progress.Position!.Value;
        Running = RunAsync();
    }

    public IReadOnlyList<TableName> Tables { get; }

    /// <summary>Where the stream stood when it began: no snapshot of it is before that.</summary>
    public LogPosition Since { get; }

    /// <summary>Ends when the load has ended, in whatever way.</summary>
    public Task Running { get; }

    /// <summary>Why it failed; null where it did not, and where it was stopped.</summary>
    public Exception? Failure { get; private set; }

    /// <summary>
    /// What it has written of its tables that the stream's session does not know. Looked for once after each time that it writes, since
    /// there may be many tables.
    /// </summary>
    public IReadOnlyList<TableProgress> Written(TargetProgress progress)
    {
        if (own?.Progress.Tables is not { } written || ReferenceEquals(written, told))
        {
            return [];
        }

        told = written;
        var there = progress.Tables.ToDictionary(table => table.Table);
        var tables = Tables.ToHashSet();
        return
        [
            .. written.Where(table =>
                tables.Contains(table.Table) && there.GetValueOrDefault(table.Table) is { Loaded: false } before && before != table
            ),
        ];
    }

    public async ValueTask DisposeAsync()
    {
        if (disposed)
        {
            return;
        }

        disposed = true;
        stopping.Cancel();
        await Running;
        stopping.Dispose();
        await (own?.DisposeAsync() ?? ValueTask.CompletedTask);
    }

    private async Task RunAsync()
    {
        await Task.Yield();
        try
        {
            await LoadAsync(stopping.Token);
        }
        catch (OperationCanceledException) when (stopping.IsCancellationRequested) { }
        catch (Exception exception) when (exception is not OutOfMemoryException)
        {
            Failure = exception;
        }
        finally
        {
            ended.Beat();
        }
    }

    private async Task LoadAsync(CancellationToken cancellation)
    {
        await context.Capture.CarryAsync(Tables, cancellation);
        await context.Source.Log.EnsureReadAsync([.. Tables], cancellation);
        own = await stream.OpenBesideAsync(cancellation);
        using var activity = EngineTraces.Begin("load", context.Crossing)?.SetTag("vestige.tables", Tables.Count);
        var load = new InitialLoad(
            context.Source,
            context.Target,
            own ?? stream,
            context.Capture,
            context.Treating,
            ends,
            context.Clock
        )
        {
            Beside = new BesideLoad(context, ended) { IsTakingTurns = own is null },
        };
        context.State.LoadsBeside(load);
        await TellAsync($"Loading {Figures.Of(Tables.Count, "table")} beside the stream.");
        await load.RunAsync(Tables, first: false, cancellation);
        var rows = load.Tables.Sum(table => table.RowsWritten);
        context.Meter.Loaded(rows);
        await TellAsync($"Loaded {Figures.Of(rows, "row")} as of position {context.Source.Log.Format(load.Position)}.");
    }

    private Task TellAsync(string text) => context.Events.OfCrossingAsync(context.Crossing, EventKind.Note, text);
}
