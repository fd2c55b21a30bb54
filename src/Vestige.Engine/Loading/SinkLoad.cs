using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Engine.Capturing;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Loading;

/// <summary>
/// Loads tables into a target that writes no transactions, one after the other. A load that is interrupted begins again with the tables
/// that had not ended; those that had keep their own position.
/// </summary>
internal sealed class SinkLoad(WorkerContext context, ISinkWriter writer, IProgressSession session) : ILoad
{
    private static readonly HashSet<string> NoOwnForms = [];

    public IReadOnlyList<TableLoad> Tables { get; private set; } = [];

    public DateTimeOffset? StartedAt { get; private set; }

    public LogPosition Position { get; private set; }

    public int GoneOn => 0;

    public async Task RunAsync(IReadOnlyList<TableName> names, bool first, CancellationToken cancellation)
    {
        await using var snapshot = await BranchReads.SnapshotAsync(context.Source, context.Capture.Spool, 1, cancellation);
        Position = snapshot.Position;
        context.Capture.RetainsWhole(names, Position);
        var log = context.Capture.Spool.Branches[Position.Branch].Identity;
        var treated = await SnapshotTables.TreatedAsync(snapshot, names, context.Treating, cancellation);
        Tables = [.. treated.Select(table => LoadOf(table.Treatment, table.EstimatedRows, log))];

        // All are known before the first of them is loaded: what a crossing has begun is what it continues with.
        await session.SaveAsync(new ProgressUpdate(null, [.. Tables.Select(Begun)], first ? log : null, Restart: first), cancellation);
        StartedAt = context.Clock.GetUtcNow();
        foreach (var load in Tables)
        {
            await LoadAsync(snapshot, load, cancellation);
        }
    }

    private static TableLoad LoadOf(TableTreatment treatment, long estimatedRows, LogIdentity log) =>
        new(treatment, [.. treatment.Tables.Select(table => table.Schema)], estimatedRows, chunks: 1) { Log = log };

    private static TableProgress Begun(TableLoad load) => load.Progress(loaded: false, LogPosition.Zero) with { Settled = true };

    private async Task LoadAsync(ISourceSnapshot snapshot, TableLoad load, CancellationToken cancellation)
    {
        foreach (var table in load.Targets)
        {
            await writer.BeginLoadAsync(table, Begun(load), cancellation);
        }

        if (context.Definition.Kind != StartKind.Structure)
        {
            await CopyAsync(snapshot, load, cancellation);
        }

        load.EndChunk();
        var loaded = load.Progress(loaded: true, Position) with { Settled = true };
        foreach (var table in load.Targets)
        {
            await writer.EndLoadAsync(table, loaded, cancellation);
        }

        await session.SaveAsync(new ProgressUpdate(null, [loaded]), cancellation);
    }

    private async Task WriteAsync(LoadedBlock block, CancellationToken cancellation)
    {
        try
        {
            await writer.LoadAsync(block.Target, block.Block, cancellation);
        }
        catch (RowRefusedException exception) when (exception.Table == block.Target.Name)
        {
            throw exception.Of(block.Chunk.Load.Table.Name);
        }
    }

    private async Task CopyAsync(ISourceSnapshot snapshot, TableLoad load, CancellationToken cancellation)
    {
        var reader = new ChunkReader(snapshot, NoOwnForms, context.Treating.Build);
        foreach (var range in await snapshot.CutAsync(load.Table, 1, cancellation))
        {
            var chunk = new LoadChunk(load, new RowRange(range), Math.Max(1, load.EstimatedRows), merges: false);
            await foreach (var block in reader.ReadAsync(chunk, cancellation))
            {
                await WriteAsync(block, cancellation);
                load.Wrote(block.Rows);
            }
        }
    }
}
