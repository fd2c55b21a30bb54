using Vestige.Core.Changes;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;
using Vestige.Engine.Tests.Toys.OrderedList;

namespace Vestige.Engine.Tests.Simulation;

/// <summary>
/// The list of changes, and a reader of it that ignores a change whose identifier it has seen before. After each transaction the reader
/// has exactly the rows that the source had.
/// </summary>
public sealed class SimListSink : SimSink
{
    private readonly ListConnector list = new();
    private readonly HashSet<string> seen = [];
    private int read;
    private (LogPosition Position, LogIdentity Log)? last;

    /// <summary>Whether the transaction at <see cref="last"/> has come to its end.</summary>
    private bool isWhole = true;

    public override IConnector Connect(SimFaults faults, SimWorld world) => new ConnectorOfPorts(new Sink(this, faults, world));

    protected override void Show(SimWorld world)
    {
        var kept = Kept.ReadProgressAsync(SimWorld.Crossing, CancellationToken.None).Result;
        for (; read < list.Entries.Count; read++)
        {
            Take(world, list.Entries[read]);
        }

        last = kept.Position is null ? null : last;
        world.Target.Progress =
            last is { } at && (at.Log.Timeline, at.Position.Offset).CompareTo((kept.Identity!.Timeline, kept.Position!.Value.Offset)) > 0
                ? kept with
                {
                    Position = at.Position.On(0),
                    Identity = at.Log,
                }
                : kept;
        if (isWhole)
        {
            world.Committed();
        }
    }

    private void Take(SimWorld world, ListEntry entry)
    {
        var (table, change) = (entry.Change.Table, entry.Change.Change);
        switch (entry.Kind)
        {
            case ListEntryKind.LoadBegan:
                Empty(world, table.Name);
                break;
            case ListEntryKind.Loaded:
                world.Target.Rows[KeyOf(table, change.After)] = change.After;
                break;
            case ListEntryKind.Changed when !seen.Add(entry.Id):
                world.Count("list", "double passed over");
                break;
            case ListEntryKind.Changed:
                InOrder(world, entry.Transaction!);
                Take(world, table, change);
                break;
        }

        if (entry.Transaction is { } of && (of.Position, of.Log) == last)
        {
            isWhole = of.Last;
        }
    }

    private void InOrder(SimWorld world, OrderedTransaction transaction)
    {
        if (last is { } before && before.Log == transaction.Log && transaction.Position.Offset < before.Position.Offset)
        {
            world.Break($"a change of {transaction.Position} came for the first time after one of {before.Position}");
        }

        last = (transaction.Position, transaction.Log);
    }

    private static void Take(SimWorld world, TableSchema table, RowChange change)
    {
        if (change.Kind == ChangeKind.Truncate)
        {
            Empty(world, table.Name);
            return;
        }

        if (!change.Before.IsNone)
        {
            world.Target.Rows.Remove(KeyOf(table, change.Before));
        }

        if (!change.After.IsNone)
        {
            world.Target.Rows[KeyOf(table, change.After)] = change.After;
        }
    }

    private static void Empty(SimWorld world, TableName table)
    {
        foreach (var key in world.Target.Rows.Keys.Where(key => key.Table == table).ToList())
        {
            world.Target.Rows.Remove(key);
        }
    }

    private static (TableName Table, string Key) KeyOf(TableSchema table, Row row) => (table.Name, RowKey.Display(row, table.KeyOrdinals));

    /// <summary>The sink as one process reaches it: calls fail, have half their effect, or come late.</summary>
    private sealed class Sink(SimListSink sink, SimFaults faults, SimWorld world) : IChangeSink, IProbe
    {
        private ListConnector List => sink.list;

        public Delivery Delivery => List.Delivery;

        public Task<string> GetIdentityAsync(CancellationToken cancellation) => List.GetIdentityAsync(cancellation);

        public Task<bool> IsSameAsync(IProbe other, CancellationToken cancellation) => Task.FromResult(false);

        public Task<IReadOnlyList<Core.Readiness.ReadinessCheck>> TestAsync(CancellationToken cancellation) => List.TestAsync(cancellation);

        public TableName NameFor(TableName source) => List.NameFor(source);

        public Task<IReadOnlyList<Core.Readiness.ReadinessCheck>> CheckTargetAsync(
            IReadOnlyList<TableSchema> tables,
            IReadOnlyDictionary<TableName, Core.Crossings.ExistingRows> existing,
            IReadOnlySet<TableName> begun,
            CancellationToken cancellation
        ) => List.CheckTargetAsync(tables, existing, begun, cancellation);

        public async Task<IChangeWriter> OpenWriterAsync(string crossing, long term, CancellationToken cancellation)
        {
            await faults.BeforeAsync("sink.open", cancellation);
            var writer = await List.OpenWriterAsync(crossing, term, cancellation);
            faults.After("sink.open");
            return new Writer(writer, sink, faults, world);
        }
    }

    private sealed class Writer(IChangeWriter inner, SimListSink sink, SimFaults faults, SimWorld world) : IChangeWriter
    {
        public Task BeginLoadAsync(TableSchema table, TableProgress begun, CancellationToken cancellation) =>
            StepAsync("sink.begin", () => inner.BeginLoadAsync(table, begun, cancellation), cancellation);

        public Task LoadAsync(TableSchema table, RowBlock block, CancellationToken cancellation) =>
            StepAsync("sink.load", () => inner.LoadAsync(table, block, cancellation), cancellation);

        public Task EndLoadAsync(TableSchema table, TableProgress loaded, CancellationToken cancellation) =>
            StepAsync("sink.end", () => inner.EndLoadAsync(table, loaded, cancellation), cancellation);

        public async Task WriteAsync(IReadOnlyList<OrderedTransaction> transactions, CancellationToken cancellation)
        {
            await faults.BeforeAsync("sink.write", cancellation);
            if (sink.SavesEarly && world.Random.NextDouble() < world.FaultRate)
            {
                world.Later(() => Late(transactions));
                return;
            }

            foreach (var transaction in transactions)
            {
                if (world.Random.NextDouble() < world.FaultRate / 4)
                {
                    world.Later(() => Late([transaction]));
                    faults.Throw("sink.write", "late");
                }

                await inner.WriteAsync([transaction], cancellation);
                sink.Show(world);
                faults.After("sink.write");
            }
        }

        public ValueTask DisposeAsync() => inner.DisposeAsync();

        /// <summary>What a worker has given up on arrives: only if nobody has taken over.</summary>
        private void Late(IReadOnlyList<OrderedTransaction> transactions)
        {
            try
            {
                inner.WriteAsync(transactions, CancellationToken.None).GetAwaiter().GetResult();
                sink.Show(world);
            }
            catch (Faults.FencedException)
            {
                world.Count("sink.write", "fenced late");
            }
        }

        private async Task StepAsync(string call, Func<Task> step, CancellationToken cancellation)
        {
            await faults.BeforeAsync(call, cancellation);
            await step();
            sink.Show(world);
            faults.After(call);
        }
    }
}
