using System.Runtime.ExceptionServices;
using System.Threading.Channels;
using Vestige.Core.Loading;
using Vestige.Core.Positions;
using Vestige.Core.Routes;
using Vestige.Core.Schemas;
using Vestige.Engine.Concurrency;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Loading;

/// <summary>
/// Copies chunks of one snapshot, all as of one position: several readers, and as many writers as the target lets write side by side. A
/// table is ended, its keys built and its mark set, as soon as its last row is committed, while others are still being copied.
/// </summary>
internal sealed class ChunkCopy(
    ChunkReader reader,
    LogPosition position,
    ITargetSession session,
    Route route,
    int lanes,
    TimeProvider clock
)
{
    /// <summary>What replaces the rows of tables, where some are loaded beside theirs.</summary>
    public IRowReplacement? Replacement { get; init; }

    /// <summary>Waits while a block of rows is not to be read yet.</summary>
    public Func<CancellationToken, Task>? Pace { get; init; }

    /// <summary>Called when a table has ended, with what was replaced where its rows were.</summary>
    public Func<TableLoad, ReplacedRows?, Task>? Ended { get; init; }

    /// <summary>At most so many blocks are written in one transaction.</summary>
    public required int BlocksPerCommit { get; init; }


    /// <summary>
    /// A commit more for every chunk was seen to cost up to a tenth of the load; what is not remembered is only read again.
    /// </summary>
    private static readonly TimeSpan RememberEvery = TimeSpan.FromMilliseconds(250);
    private const int BlocksInHand = 64;
    private readonly Channel<LoadedBlock> blocks = Channel.CreateBounded<LoadedBlock>(BlocksInHand);
    private readonly Channel<LoadChunk> written = Channel.CreateUnbounded<LoadChunk>();
    private readonly Channel<IReadOnlyList<TableLoad>> ended = Channel.CreateUnbounded<IReadOnlyList<TableLoad>>();
    private readonly AsyncLock sessionLock = new();
    private IReadOnlyList<TableLoad> all = [];

    /// <summary>Copies them all. The first failure ends the rest, and is thrown when everything has come to rest.</summary>
    public async Task RunAsync(IReadOnlyList<LoadChunk> chunks, CancellationToken cancellation)
    {
        all = [.. chunks.Select(chunk => chunk.Load).Distinct()];
        var beside = await OpenAsync(cancellation);
        try
        {
            IReadOnlyList<ITargetSession> sessions = beside.Count > 1 ? beside : [session, session];
            await RunAsync(chunks, [.. sessions.Take(sessions.Count / 2)], [.. sessions.Skip(sessions.Count / 2)], cancellation);
        }
        finally
        {
            await DisposeAsync(beside);
        }
    }

    private async Task RunAsync(
        IReadOnlyList<LoadChunk> chunks,
        IReadOnlyList<ITargetSession> writers,
        IReadOnlyList<ITargetSession> builders,
        CancellationToken cancellation
    )
    {
        using var failing = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
        var plan = LoadPlan.LongestFirst([.. chunks.Select(chunk => chunk.Cost)], lanes);
        Exception? first = null;
        await Task.WhenAll(
            GuardAsync(plan.Workers.Select(mine => ReadAsync([.. mine.Select(i => chunks[i])], failing.Token)), () =>
                blocks.Writer.TryComplete()
            ),
            GuardAsync(writers.Select(writer => WriteAsync(writer, failing.Token)), () => written.Writer.TryComplete()),
            GuardAsync([RememberAsync(failing.Token)], () => ended.Writer.TryComplete()),
            GuardAsync(builders.Select(builder => EndTablesAsync(builder, failing.Token)), () => { })
        );
        if (first is not null)
        {
            cancellation.ThrowIfCancellationRequested();
            ExceptionDispatchInfo.Throw(first);
        }

        async Task GuardAsync(IEnumerable<Task> lanes, Action then)
        {
            await Task.WhenAll(
                lanes.Select(async lane =>
                {
                    try
                    {
                        await lane;
                    }
                    catch (Exception exception)
                    {
                        Interlocked.CompareExchange(ref first, exception, null);
                        failing.Cancel();
                    }
                })
            );
            then();
        }
    }

    private async Task ReadAsync(IReadOnlyList<LoadChunk> chunks, CancellationToken cancellation)
    {
        await Task.Yield();
        foreach (var chunk in chunks)
        {
            await foreach (var block in reader.ReadAsync(chunk, cancellation))
            {
                chunk.Took();
                await (Pace?.Invoke(cancellation) ?? Task.CompletedTask);
                await blocks.Writer.WriteAsync(block, cancellation);
            }

            if (chunk.EndReading())
            {
                written.Writer.TryWrite(chunk);
            }
        }
    }

    /// <summary>The first half of the lanes' sessions write rows, the second half build keys; a lone session does both by turns.</summary>
    private async Task<List<ITargetSession>> OpenAsync(CancellationToken cancellation)
    {
        var sessions = new List<ITargetSession>();
        try
        {
            while (sessions.Count < 2 * lanes && await session.OpenBesideAsync(cancellation) is { } another)
            {
                sessions.Add(another);
            }

            return sessions;
        }
        catch
        {
            await DisposeAsync(sessions);
            throw;
        }
    }

    private static async Task DisposeAsync(List<ITargetSession> sessions)
    {
        foreach (var opened in sessions)
        {
            await opened.DisposeAsync();
        }
    }

    private async Task WriteAsync(ITargetSession writer, CancellationToken cancellation)
    {
        await Task.Yield();
        while (await blocks.Reader.WaitToReadAsync(cancellation))
        {
            await WriteSomeAsync(writer, cancellation);
        }
    }

    /// <summary>
    /// Writes what is at hand in one transaction: none is held open while rows are waited for, since it would hold up what
    /// else continues in the target.
    /// </summary>
    private async Task WriteSomeAsync(ITargetSession writer, CancellationToken cancellation)
    {
        if (!blocks.Reader.TryRead(out var item))
        {
            return;
        }

        var taken = new List<(LoadChunk Chunk, int Rows)>();
        using (await RunSessionAsync(writer, cancellation))
        {
            await using var transaction = await writer.BeginAsync(checkReferences: false, route, cancellation);
            do
            {
                await WriteAsync(transaction, item, cancellation);
                taken.Add((item.Chunk, item.Rows));
            } while (taken.Count < BlocksPerCommit && blocks.Reader.TryRead(out item));
            await transaction.CommitAsync(ProgressUpdate.None, cancellation);
        }

        foreach (var (chunk, rows) in taken)
        {
            if (chunk.Wrote(rows))
            {
                written.Writer.TryWrite(chunk);
            }
        }
    }

    private static async Task WriteAsync(ITargetTransaction transaction, LoadedBlock item, CancellationToken cancellation)
    {
        try
        {
            await (
                item.Chunk.Merges
                    ? transaction.MergeAsync(item.Target, item.Block, cancellation)
                    : transaction.LoadAsync(item.Target, item.Block, cancellation)
            );
        }
        catch (RowRefusedException exception) when (exception.Table == item.Target.Name && item.Target.Name != item.Chunk.Load.Table.Name)
        {
            throw exception.Of(item.Chunk.Load.Table.Name);
        }
    }

    /// <summary>
    /// Writes down which ranges are done, so that a later load continues with the others. A range is recorded only after its rows
    /// are committed; what a crash leaves between is written a second time, over what is there.
    /// </summary>
    private async Task RememberAsync(CancellationToken cancellation)
    {
        var told = new Dictionary<TableLoad, long>();
        while (await written.Reader.WaitToReadAsync(cancellation))
        {
            if (!written.Reader.TryRead(out var chunk))
            {
                continue;
            }

            if (chunk.Load.EndChunk())
            {
                // Tables that go into one end together, so that its keys are built once.
                var together = Together(chunk.Load);
                if (together.All(load => load.Done))
                {
                    ended.Writer.TryWrite(together);
                }
            }
            else if (
                chunk.Load.Remember(chunk) is { } part
                && (!told.TryGetValue(chunk.Load, out var last) || clock.GetElapsedTime(last) >= RememberEvery)
            )
            {
                told[chunk.Load] = clock.GetTimestamp();
                using var locked = await sessionLock.EnterAsync(cancellation);
                await session.SaveAsync(
                    new ProgressUpdate(null, [chunk.Load.Progress(loaded: false, LogPosition.Zero, part)]),
                    cancellation
                );
            }
        }
    }

    /// <summary>A table counts as loaded only when its keys are built, since changes are applied by them.</summary>
    private async Task EndTablesAsync(ITargetSession builder, CancellationToken cancellation)
    {
        // Not ReadAllAsync: it continues outside the synchronization context, and a simulated run would not follow from its seed.
        while (await ended.Reader.WaitToReadAsync(cancellation))
        {
            if (ended.Reader.TryRead(out var loads))
            {
                await EndAsync(builder, loads, cancellation);
            }
        }
    }

    private IReadOnlyList<TableLoad> Together(TableLoad load) =>
        load.Treatment.IsCombined ? [.. all.Where(other => other.Targets[0].Name == load.Targets[0].Name)] : [load];

    private async Task EndAsync(ITargetSession builder, IReadOnlyList<TableLoad> loads, CancellationToken cancellation)
    {
        ReplacedRows? replaced = null;
        using (await RunSessionAsync(builder, cancellation))
        {
            if (loads[0].Replaces is { } table)
            {
                replaced = await ReplaceAsync(builder, loads[0], table, cancellation);
            }

            foreach (var built in loads[0].Replaces is { } one ? [one] : loads[0].Targets)
            {
                await builder.BuildKeysAsync(built, cancellation);
            }
        }

        using (await sessionLock.EnterAsync(cancellation))
        {
            var done = loads.Select(load => load.Progress(loaded: true, position)).ToList();
            await session.SaveAsync(new ProgressUpdate(null, done), cancellation);
        }

        foreach (var load in loads)
        {
            await (Ended?.Invoke(load, replaced) ?? Task.CompletedTask);
        }
    }

    /// <summary>In one transaction, so that whoever reads the table sees its rows of before or those of the snapshot.</summary>
    private async Task<ReplacedRows> ReplaceAsync(
        ITargetSession builder,
        TableLoad load,
        TableSchema table,
        CancellationToken cancellation
    )
    {
        try
        {
            await using var transaction = await builder.BeginAsync(checkReferences: false, route, cancellation);
            await transaction.CreateTablesAsync([table], TableMaking.WhereOther, cancellation);
            var replaced = await Replacement!.ReplaceAsync(transaction, table, load.Targets[0], load.RowsWritten, cancellation);
            await transaction.CommitAsync(ProgressUpdate.None, cancellation);
            return replaced;
        }
        catch (RowRefusedException exception) when (exception.Table == table.Name && table.Name != load.Table.Name)
        {
            throw exception.Of(load.Table.Name);
        }
    }

    /// <summary>Where the target has no second writer, rows and the ends of tables go through one session by turns.</summary>
    private async Task<IDisposable?> RunSessionAsync(ITargetSession user, CancellationToken cancellation) =>
        ReferenceEquals(user, session) ? await sessionLock.EnterAsync(cancellation) : null;
}
