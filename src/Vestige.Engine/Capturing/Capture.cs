using Microsoft.Extensions.Logging;
using Vestige.Core.Joining;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;
using Vestige.Engine.SchemaVersions;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Capturing;

/// <summary>
/// Reads one source's log into its spool, for all crossings of that source. What is read is first made durable, then
/// confirmed to the source (never the other way round). While one group is being written the reader waits, so that under
/// load each sync carries more and when quiet each transaction is synced at once.
/// </summary>
public sealed class Capture : IAsyncDisposable
{
    private static readonly TimeSpan PollWait = TimeSpan.FromMilliseconds(250);
    private static readonly TimeSpan SampleEvery = TimeSpan.FromSeconds(1);
    private readonly Func<ILogSource> resolve;
    private readonly TimeProvider clock;
    private readonly EventLog events;
    private readonly CaptureTroubles troubles;
    private readonly LogContinuation continuation;
    private readonly CarriedTables tables = new();
    private readonly CaptureState state;
    private readonly BranchSequence branches;
    private readonly CancellationTokenSource stopping = new();
    private Task running = Task.CompletedTask;
    private LogPosition? confirmed;
    private DateTimeOffset passedAt;
    private bool mended = true;
    private CancellationTokenSource restart = new();

    public Capture(
        string connection,
        Func<ILogSource> source,
        Spool spool,
        TimeProvider clock,
        Random random,
        EventLog events,
        ILogger logger,
        MissingBefore? missing = null
    )
    {
        ArgumentNullException.ThrowIfNull(spool);
        Connection = connection;
        resolve = source;
        Spool = spool;
        this.clock = clock;
        this.events = events;
        continuation = new LogContinuation(connection, spool, tables, events, missing);
        state = new CaptureState(connection, spool);
        branches = new BranchSequence(connection, spool, StateChanged, events, clock);
        troubles = new CaptureTroubles(connection, state, StateChanged, events, clock, random, logger);
        tables.Ask(spool.Tables);
    }

    public string Connection { get; }

    /// <summary>Where versions of tables are kept; null where they are not.</summary>
    internal SchemaHistory? History { get; init; }

    /// <summary>Asked each time, since a changed connection is another system.</summary>
    private ILogSource Source => resolve();

    public Spool Spool { get; }

    /// <summary>Beats when reading stops or starts to work.</summary>
    public AsyncSignal StateChanged { get; } = new();

    public CaptureStatus Status => state.Status;

    /// <summary>Why the log cannot be read on from where the spool ends; null unless its place there is lost.</summary>
    public PlaceLostException? Loss =>
        state.Loss is { } why ? new PlaceLostException(why) { Remedy = "Load the crossings of this source again." } : null;

    public void Start() => running = RunAsync();

    /// <summary>
    /// Makes sure that changes of these tables are read from now on; returns when the log is being read with them.
    /// </summary>
    public async Task CarryAsync(IEnumerable<TableName> wanted, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(wanted);
        var all = wanted.ToList();
        tables.Ask(all);
        await UntilAsync(() => Status.Running && Spool.Identity is not null && tables.Carries(all), cancellation);
    }

    /// <summary>
    /// Tells that every transaction that was open when these tables began to be read has ended by a position, as the opening of
    /// a snapshot after that waits for. Written down when the reader comes to it; returns at once.
    /// </summary>
    public void RetainsWhole(IEnumerable<TableName> names, LogPosition after) => tables.RetainsWhole(names, after);

    /// <summary>Returns when it is written down that all changes of these tables after some position are held.</summary>
    public Task RetainsWholeAsync(IReadOnlyCollection<TableName> names, CancellationToken cancellation) =>
        UntilAsync(() => names.All(name => Spool.Retained(name)?.WholeAfter is not null), cancellation);

    /// <summary>Returns when the spool holds the log up to the position; throws when it never will.</summary>
    public async Task ReachAsync(LogPosition position, CancellationToken cancellation)
    {
        while (!Spool.Readable || Spool.Last < position)
        {
            var (grown, turned) = (Spool.Grown.Next, StateChanged.Next);
            if (Loss is { } loss)
            {
                throw loss;
            }

            if (!Spool.Readable || Spool.Last < position)
            {
                await Task.WhenAny(grown, turned).WaitAsync(cancellation);
            }
        }
    }

    /// <summary>
    /// Takes a join: the log that is read is read up to its end and never beyond, then the one that the connection leads to continues.
    /// Durable when it returns. Throws <see cref="RequestRefusedException"/> where the join may not be taken; then nothing was changed.
    /// </summary>
    public async Task JoinAsync(JoinPoint join, CancellationToken cancellation)
    {
        var asked = branches.Ask(join);
        await UntilAsync(() => asked.IsDecided, cancellation);
        if (asked.Refusal is { } refusal)
        {
            throw refusal;
        }
    }

    /// <summary>Begins again at the present head of the log, for a new load after the place was lost.</summary>
    public async Task RestartAsync(CancellationToken cancellation)
    {
        await StopReadingAsync();
        await Spool.ClearAsync(cancellation);
        (mended, confirmed) = (true, null);
        tables.Clear();
        state.Restart();
        restart = new CancellationTokenSource();
        Start();
    }

    /// <summary>Stops reading for good and empties the spool.</summary>
    public async Task EndAsync(CancellationToken cancellation)
    {
        stopping.Cancel();
        await StopReadingAsync();
        await Spool.ClearAsync(cancellation);
        await DisposeAsync();
    }

    public async ValueTask DisposeAsync()
    {
        if (stopping.IsCancellationRequested && running.IsCompleted)
        {
            await Spool.DisposeAsync();
            return;
        }

        stopping.Cancel();
        await StopReadingAsync();
        await Spool.DisposeAsync();
        stopping.Dispose();
    }

    /// <summary>Ends the pause before the next attempt to read the log.</summary>
    public void RetryNow() => troubles.RetryNow();

    /// <summary>Waits for what may hold whenever reading turns; throws when the place in the log is lost.</summary>
    private async Task UntilAsync(Func<bool> holds, CancellationToken cancellation)
    {
        while (true)
        {
            var turned = StateChanged.Next;
            if (Loss is { } loss)
            {
                throw loss;
            }

            if (holds())
            {
                return;
            }

            await turned.WaitAsync(cancellation);
        }
    }

    private async Task StopReadingAsync()
    {
        restart.Cancel();
        await running;
    }

    private async Task RunAsync()
    {
        await Task.Yield();
        using var ending = CancellationTokenSource.CreateLinkedTokenSource(stopping.Token, restart.Token);
        var attempt = 0;
        while (!ending.IsCancellationRequested)
        {
            try
            {
                await ReadAsync(() => attempt = 0, ending.Token);
            }
            catch (OperationCanceledException) when (ending.IsCancellationRequested)
            {
                mended = false;
            }
            catch (PlaceLostException exception)
            {
                if (exception.ContinuesAt is not { } at || !await TryContinueAsync(at, exception, ending.Token))
                {
                    await troubles.LoseAsync(exception);
                    return;
                }
            }
            catch (Exception exception) when (exception is not OutOfMemoryException)
            {
                attempt++;
                mended = false;
                await troubles.WaitAsync(attempt, exception, ending.Token);
            }
        }
    }

    /// <summary>True when reading continues from there, and when that cannot be found out now: it is asked again after a while.</summary>
    private async Task<bool> TryContinueAsync(LogPosition at, PlaceLostException exception, CancellationToken cancellation)
    {
        try
        {
            if (!await continuation.TryAsync(Source.Format(at), at, exception.Message, cancellation))
            {
                return false;
            }

            confirmed = null;
        }
        catch (Exception failure) when (failure is PortException or IOException)
        {
            mended = false;
            await troubles.WaitAsync(1, failure, cancellation);
        }

        return true;
    }

    /// <summary>Reads until tables are added; then the log is opened again from where the spool ends.</summary>
    private async Task ReadAsync(Action works, CancellationToken cancellation)
    {
        if (!mended)
        {
            await Spool.RecoverAsync(cancellation);
            mended = true;
        }

        await BeginNextAsync(branches.TakeJoinsAsync(cancellation));
        var isSame = await SampleAsync(cancellation);
        await BeginNextAsync(branches.AgreeAsync(Source, state.Head?.Identity, cancellation));
        _ = isSame || await SampleAsync(cancellation);
        state.ReadsFrom(Spool.Last);
        var chosen = tables.Choose(Spool.Tables);
        await using var reader = await Source.OpenLogAsync(
            new LogRequest(Spool.Last, chosen, Spool.Tables, Spool.Relations, Spool.Notes) { Log = Spool.Identity },
            cancellation
        );
        await Spool.CarryAsync(chosen, cancellation);

        // What the reader notes on opening is durable before anybody relies on the tables being read.
        var read = await reader.ReadAsync(TimeSpan.Zero, cancellation);
        await TakeAsync(read, cancellation);
        tables.Reads(chosen);
        StateChanged.Beat();
        while ((!tables.More && !branches.HasNext) || Spool.Inside)
        {
            await WaitForRoomAsync(cancellation);
            read = await reader.ReadAsync(PollWait, cancellation);
            await TakeAsync(read, cancellation);
            if (!Spool.Inside)
            {
                await RetainWholeAsync(cancellation);
            }

            works();
            await troubles.OverAsync();
            if (clock.GetUtcNow() - state.SampledAt >= SampleEvery)
            {
                await Spool.TrimAsync(cancellation);
                if (!await SampleAsync(cancellation))
                {
                    throw branches.Another();
                }
            }
        }
    }

    private async Task BeginNextAsync(Task<bool> hasBegun)
    {
        if (await hasBegun)
        {
            confirmed = null;
        }
    }

    private async Task RetainWholeAsync(CancellationToken cancellation)
    {
        while (tables.Reported is { } told)
        {
            await Spool.RetainWholeAsync(told.Names, told.After, cancellation);
            tables.Written();
            StateChanged.Beat();
        }
    }

    private async Task TakeAsync(LogRead whole, CancellationToken cancellation)
    {
        var now = clock.GetUtcNow();
        var read = branches.UpToEnd(whole);
        state.Read(read, now);
        if (History is { } history && read.Versions.Count > 0)
        {
            // Before anything is appended: what was appended and not synced may be found to be durable after a crash.
            await history.TakeAsync(read.Versions, Spool.Identity!, cancellation);
        }

        if (read.Fragments.Count > 0 || read.Notes.Count > 0)
        {
            await Spool.AppendAsync(read, now, cancellation);
        }

        await PassOthersAsync(read, now, cancellation);
        using var activity = EngineTraces.Begin("spool", Connection);
        var durable = await Spool.SyncAsync(cancellation);
        state.Spooled(durable);
        if (confirmed is null || durable > confirmed)
        {
            await Source.ConfirmAsync(durable, cancellation);
            confirmed = durable;
        }
    }

    /// <summary>
    /// A stretch of log without any of our tables moves the spool's end by an empty transaction, at rest once a second, else
    /// every 4 MB, so that the source need not keep it.
    /// </summary>
    private async Task PassOthersAsync(LogRead read, DateTimeOffset now, CancellationToken cancellation)
    {
        var end = read.Fragments.Count > 0 ? read.Fragments[^1].Position : Spool.Last;
        if (read.Passed <= end || (read.Fragments.Count > 0 && !read.Fragments[^1].Last))
        {
            return;
        }

        if ((read.AtHead && now - passedAt >= SampleEvery) || Source.Distance(Spool.Last, read.Passed) > 4 << 20)
        {
            passedAt = now;
            var nothing = new LogFragment(read.Passed, now, First: true, Last: true, 0, default, Token: read.PassedToken);
            await Spool.AppendAsync(
                new LogRead([nothing], new Dictionary<int, TableSchema>(), read.Passed, read.AtHead),
                now,
                cancellation
            );
        }
    }

    private async Task WaitForRoomAsync(CancellationToken cancellation)
    {
        var announced = false;
        while (Spool.Full)
        {
            await Spool.TrimAsync(cancellation);
            if (!Spool.Full)
            {
                break;
            }

            if (!announced)
            {
                announced = true;
                troubles.Wait(
                    $"The spool is at its budget of {Spool.Options.BudgetBytes} bytes. The source keeps its log until crossings have "
                        + "moved on."
                );
                await events.OfConnectionAsync(
                    Connection,
                    EventKind.Warning,
                    "The spool is full. Capture waits, and the source keeps its log."
                );
            }

            await SampleAsync(cancellation);
            await Task.Delay(SampleEvery, clock, cancellation);
        }

        if (announced)
        {
            await troubles.OverAsync();
        }
    }

    /// <summary>
    /// False, and nothing is taken, where the source's log is another than the one that is read: its positions are of no branch of it.
    /// </summary>
    private async Task<bool> SampleAsync(CancellationToken cancellation)
    {
        var sample = await Source.SampleAsync(LogPosition.Max(state.Captured, Spool.Last), cancellation);
        if (Spool.Identity is { } identity && sample.Identity != identity)
        {
            return false;
        }

        state.Sample(sample, clock.GetUtcNow());
        return true;
    }
}
