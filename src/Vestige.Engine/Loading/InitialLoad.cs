using System.Threading.Channels;
using Vestige.Core.Loading;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Loading;

/// <summary>
/// Copies the rows of some tables as of one position: several readers of one snapshot, one writer. Each table is marked as
/// loaded, with that position, when its rows are written and its keys are built; an interrupted load begins the tables
/// again that were not marked, from a snapshot of its own.
/// </summary>
internal sealed class InitialLoad(ISource source, ITarget target, ITargetSession session, TimeProvider clock)
{
    private const int Readers = 2;
    private const int BlocksPerCommit = 32;
    private const int BlocksInHand = 8;

    /// <summary>The tables being loaded, once the snapshot is open.</summary>
    public IReadOnlyList<TableLoad> Tables { get; private set; } = [];

    public DateTimeOffset? StartedAt { get; private set; }

    public LogPosition Position { get; private set; }

    /// <summary>Loads the tables and returns the position they are at.</summary>
    public async Task<LogPosition> RunAsync(IReadOnlyList<TableName> names, LogIdentity identity, bool first, CancellationToken cancellation)
    {
        await using var snapshot = await source.OpenSnapshotAsync(Readers, cancellation);
        Position = snapshot.Position;
        var forms = await FormsAsync(snapshot, names, cancellation);
        var chunks = new List<(TableLoad Load, KeyRange Range, double Cost)>();
        var loads = new List<TableLoad>();
        foreach (var form in forms)
        {
            var ranges = await snapshot.CutAsync(form.Schema, ChunkCount.For(form.EstimatedRows), cancellation);
            var load = new TableLoad(form.Schema, form.EstimatedRows, ranges.Count);
            loads.Add(load);
            chunks.AddRange(ranges.Select(range => (load, range, Math.Max(1.0, (double)form.EstimatedRows / ranges.Count))));
        }

        StartedAt = clock.GetUtcNow();
        Tables = loads;
        await PrepareAsync(forms, identity, first, cancellation);
        await CopyAsync(snapshot, chunks, cancellation);
        return Position;
    }

    private static async Task<List<TableDescription>> FormsAsync(ISourceSnapshot snapshot, IReadOnlyList<TableName> names, CancellationToken cancellation)
    {
        var there = (await snapshot.ReadTablesAsync(cancellation)).ToDictionary(table => table.Schema.Name);
        var forms = new List<TableDescription>();
        foreach (var name in names)
        {
            if (!there.TryGetValue(name, out var form) || !form.Crosses)
            {
                throw new PortException(form is null ? $"The source has no table {name}." : $"{name} cannot cross: {form.Reason}")
                {
                    Mend = "Change the table at the source, or take it out of the crossing.",
                };
            }

            forms.Add(form);
        }

        return forms;
    }

    /// <summary>Makes the tables empty and of the source's form, and writes down that they are begun.</summary>
    private async Task PrepareAsync(List<TableDescription> forms, LogIdentity identity, bool first, CancellationToken cancellation)
    {
        var begun = session.Progress.Tables.Select(progress => progress.Table).ToHashSet();
        await using var transaction = await session.BeginAsync(checkReferences: false, cancellation);
        await transaction.CreateTablesAsync([.. forms.Select(form => form.Schema).Where(form => !begun.Contains(form.Name))], replace: false, cancellation);
        await transaction.CreateTablesAsync([.. forms.Select(form => form.Schema).Where(form => begun.Contains(form.Name))], replace: true, cancellation);
        foreach (var form in forms)
        {
            await transaction.EmptyAsync(form.Schema, cancellation);
        }

        var tables = forms.Select(form => new TableProgress(form.Schema.Name, Loaded: false, LogPosition.Zero)).ToList();
        await transaction.CommitAsync(new ProgressUpdate(null, tables, identity, Restart: first), cancellation);
    }

    private async Task CopyAsync(ISourceSnapshot snapshot, List<(TableLoad Load, KeyRange Range, double Cost)> chunks, CancellationToken cancellation)
    {
        using var failing = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
        var channel = Channel.CreateBounded<(TableLoad Load, RowBlock Block, bool End)>(BlocksInHand);
        var plan = LoadPlan.LongestFirst([.. chunks.Select(chunk => chunk.Cost)], Readers);
        var readers = plan.Workers
            .Select(mine => ReadAsync(snapshot, [.. mine.Select(i => (chunks[i].Load, chunks[i].Range))], channel.Writer, failing.Token))
            .ToList();
        var reading = CompleteAsync(readers, channel.Writer);
        try
        {
            await WriteAsync(channel.Reader, cancellation);
        }
        catch
        {
            failing.Cancel();
            throw;
        }
        finally
        {
            await reading;
        }
    }

    private static async Task CompleteAsync(List<Task> readers, ChannelWriter<(TableLoad Load, RowBlock Block, bool End)> writer)
    {
        try
        {
            await Task.WhenAll(readers);
            writer.Complete();
        }
        catch (Exception exception)
        {
            writer.TryComplete(exception);
        }
    }

    private async Task ReadAsync(
        ISourceSnapshot snapshot,
        List<(TableLoad Load, KeyRange Range)> chunks,
        ChannelWriter<(TableLoad Load, RowBlock Block, bool End)> writer,
        CancellationToken cancellation)
    {
        await Task.Yield();
        foreach (var (load, range) in chunks)
        {
            await foreach (var block in snapshot.ReadAsync(load.Table, range, target.TakenForms, cancellation))
            {
                await writer.WriteAsync((load, block, false), cancellation);
            }

            await writer.WriteAsync((load, default, true), cancellation);
        }
    }

    private async Task WriteAsync(ChannelReader<(TableLoad Load, RowBlock Block, bool End)> reader, CancellationToken cancellation)
    {
        while (await reader.WaitToReadAsync(cancellation))
        {
            await EndAsync(await WriteSomeAsync(reader, cancellation), cancellation);
        }
    }

    /// <summary>Writes what is at hand in one transaction and returns the tables whose last rows it held.</summary>
    private async Task<List<TableLoad>> WriteSomeAsync(ChannelReader<(TableLoad Load, RowBlock Block, bool End)> reader, CancellationToken cancellation)
    {
        var written = new List<(TableLoad Load, int Rows)>();
        var ended = new List<TableLoad>();
        await using var transaction = await session.BeginAsync(checkReferences: false, cancellation);
        for (var i = 0; i < BlocksPerCommit && reader.TryRead(out var item); i++)
        {
            if (!item.End)
            {
                await transaction.LoadAsync(item.Load.Table, item.Block, cancellation);
                written.Add((item.Load, item.Block.Count));
            }
            else if (item.Load.EndChunk())
            {
                ended.Add(item.Load);
            }
        }

        await transaction.CommitAsync(ProgressUpdate.None, cancellation);
        written.ForEach(entry => entry.Load.Wrote(entry.Rows));
        return ended;
    }

    /// <summary>A table counts as loaded only when its keys are built, since changes are applied by them.</summary>
    private async Task EndAsync(List<TableLoad> ended, CancellationToken cancellation)
    {
        if (ended.Count == 0)
        {
            return;
        }

        foreach (var load in ended)
        {
            await session.BuildKeysAsync(load.Table, cancellation);
        }

        await using var transaction = await session.BeginAsync(checkReferences: false, cancellation);
        await transaction.CommitAsync(new ProgressUpdate(null, [.. ended.Select(load => new TableProgress(load.Table.Name, Loaded: true, Position))]), cancellation);
    }
}
