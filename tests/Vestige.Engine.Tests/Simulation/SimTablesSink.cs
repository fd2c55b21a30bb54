using Vestige.Core.Changes;
using Vestige.Core.Folding;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;
using Vestige.Engine.Tests.Toys.TablesInMemory;

namespace Vestige.Engine.Tests.Simulation;

/// <summary>
/// The tables without transactions: after every step each loaded table holds exactly the rows that the source had in it at the table's own
/// position.
/// </summary>
public sealed class SimTablesSink : SimSink
{
    private readonly TablesConnector tables = new();

    public override IConnector Connect(SimFaults faults, SimWorld world) => new ConnectorOfPorts(new Sink(this, faults, world));

    protected override void Show(SimWorld world)
    {
        var kept = Kept.ReadProgressAsync(SimWorld.Crossing, CancellationToken.None).Result;
        var progress = tables.ReadTablesProgressAsync(SimWorld.Crossing, CancellationToken.None).Result;
        world.Target.Progress = kept.With(
            new ProgressUpdate(null, [.. progress.Select(table => table with { Position = table.Position.On(0) })])
        );
        world.Target.Rows = tables
            .Tables.SelectMany(pair => pair.Value.Rows.Values.Select(row => (Table: pair.Key, Row: row)))
            .ToDictionary(pair => (pair.Table, $"{pair.Row.IntegerAt(0)}"), pair => pair.Row);
        world.CommittedByTable();
    }

    /// <summary>The sink as one process reaches it: calls fail before or after their effect, or come late.</summary>
    private sealed class Sink(SimTablesSink sink, SimFaults faults, SimWorld world) : ITableSink, IProbe
    {
        private TablesConnector Tables => sink.tables;

        public Delivery Delivery => Tables.Delivery;

        public Task<string> GetIdentityAsync(CancellationToken cancellation) => Tables.GetIdentityAsync(cancellation);

        public Task<bool> IsSameAsync(IProbe other, CancellationToken cancellation) => Task.FromResult(false);

        public Task<IReadOnlyList<Core.Readiness.ReadinessCheck>> TestAsync(CancellationToken cancellation) =>
            Tables.TestAsync(cancellation);

        public TableName NameFor(TableName source) => Tables.NameFor(source);

        public Task<IReadOnlyList<Core.Readiness.ReadinessCheck>> CheckTargetAsync(
            IReadOnlyList<TableSchema> tables,
            IReadOnlyDictionary<TableName, Core.Crossings.ExistingRows> existing,
            IReadOnlySet<TableName> begun,
            CancellationToken cancellation
        ) => Tables.CheckTargetAsync(tables, existing, begun, cancellation);

        public async Task<IReadOnlyList<TableProgress>> ReadTablesProgressAsync(string crossing, CancellationToken cancellation)
        {
            await faults.BeforeAsync("sink.progress", cancellation);
            return await Tables.ReadTablesProgressAsync(crossing, cancellation);
        }

        public Task ForgetTablesAsync(string crossing, CancellationToken cancellation) => Tables.ForgetTablesAsync(crossing, cancellation);

        public async Task<ITableWriter> OpenWriterAsync(string crossing, long term, CancellationToken cancellation)
        {
            await faults.BeforeAsync("sink.open", cancellation);
            var writer = await Tables.OpenWriterAsync(crossing, term, cancellation);
            faults.After("sink.open");
            return new Writer(writer, sink, faults, world);
        }
    }

    private sealed class Writer(ITableWriter inner, SimTablesSink sink, SimFaults faults, SimWorld world) : ITableWriter
    {
        public IReadOnlyList<TableProgress> Tables => inner.Tables;

        public Task BeginLoadAsync(TableSchema table, TableProgress begun, CancellationToken cancellation) =>
            StepAsync("sink.begin", () => inner.BeginLoadAsync(table, begun, cancellation), cancellation);

        public Task LoadAsync(TableSchema table, RowBlock block, CancellationToken cancellation) =>
            StepAsync("sink.load", () => inner.LoadAsync(table, block, cancellation), cancellation);

        public Task EndLoadAsync(TableSchema table, TableProgress loaded, CancellationToken cancellation) =>
            StepAsync("sink.end", () => inner.EndLoadAsync(table, loaded, cancellation), cancellation);

        public Task ApplyAsync(FoldedTable table, TableProgress progress, CancellationToken cancellation) =>
            StepAsync("sink.apply", () => inner.ApplyAsync(table, progress, cancellation), cancellation);

        public Task SaveAsync(TableProgress progress, CancellationToken cancellation) =>
            StepAsync("sink.save", () => inner.SaveAsync(progress, cancellation), cancellation);

        public ValueTask DisposeAsync() => inner.DisposeAsync();

        private async Task StepAsync(string call, Func<Task> step, CancellationToken cancellation)
        {
            await faults.BeforeAsync(call, cancellation);
            if (world.Random.NextDouble() < world.FaultRate / 4)
            {
                world.Later(() => Late(call, step));
                faults.Throw(call, "late");
            }

            if (sink.SavesEarly && call == "sink.apply" && world.Random.NextDouble() < world.FaultRate)
            {
                world.Later(() => Late(call, step));
                return;
            }

            await step();
            sink.Show(world);
            faults.After(call);
        }

        private void Late(string call, Func<Task> step)
        {
            try
            {
                step().GetAwaiter().GetResult();
                sink.Show(world);
            }
            catch (Faults.FencedException)
            {
                world.Count(call, "fenced late");
            }
        }
    }
}
