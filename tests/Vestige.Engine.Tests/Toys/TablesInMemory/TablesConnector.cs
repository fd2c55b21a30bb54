using System.Collections.Immutable;
using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Folding;
using Vestige.Core.Readiness;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Tests.Toys.TablesInMemory;

/// <summary>
/// The least that holds rows without transactions: a dictionary of tables, each replaced in one step with its progress. For one crossing.
/// </summary>
public sealed class TablesConnector : IConnector, IProbe, ITableSink
{
    private readonly Dictionary<TableName, TableInMemory> tables = [];
    private readonly Dictionary<TableName, TableProgress> withoutRows = [];
    private long last;

    /// <summary>The tables as they are.</summary>
    public IReadOnlyDictionary<TableName, TableInMemory> Tables => tables;

    public Delivery Delivery => Delivery.ExactlyOncePerTable;

    public T? Find<T>()
        where T : class => this as T;

    public TableName NameFor(TableName source) => source;

    public Task<string> GetIdentityAsync(CancellationToken cancellation) => Task.FromResult("tables");

    public Task<bool> IsSameAsync(IProbe other, CancellationToken cancellation) => Task.FromResult(ReferenceEquals(this, other));

    public Task<IReadOnlyList<ReadinessCheck>> TestAsync(CancellationToken cancellation) =>
        Task.FromResult<IReadOnlyList<ReadinessCheck>>([new("tables", true, "they are in memory", "tables", null, TimeSpan.Zero)]);

    public Task<IReadOnlyList<ReadinessCheck>> CheckTargetAsync(
        IReadOnlyList<TableSchema> tables,
        IReadOnlyDictionary<TableName, ExistingRows> existing,
        IReadOnlySet<TableName> begun,
        CancellationToken cancellation
    ) => Task.FromResult<IReadOnlyList<ReadinessCheck>>([]);

    public Task<IReadOnlyList<TableProgress>> ReadTablesProgressAsync(string crossing, CancellationToken cancellation) =>
        Task.FromResult(Progress);

    public Task ForgetTablesAsync(string crossing, CancellationToken cancellation)
    {
        tables.Clear();
        withoutRows.Clear();
        return Task.CompletedTask;
    }

    public Task<ITableWriter> OpenWriterAsync(string crossing, long term, CancellationToken cancellation)
    {
        if (term <= last)
        {
            throw new FencedException($"Term {last} is at work.") { Transient = true, Term = last };
        }

        last = term;
        return Task.FromResult<ITableWriter>(new Writer(this, term, Progress));
    }

    public ValueTask DisposeAsync() => ValueTask.CompletedTask;

    private IReadOnlyList<TableProgress> Progress =>
        [.. withoutRows.Values.Concat(tables.Values.Select(table => table.Progress)).OrderBy(progress => progress.Table)];

    private sealed class Writer(TablesConnector sink, long term, IReadOnlyList<TableProgress> found) : ITableWriter
    {
        public IReadOnlyList<TableProgress> Tables => found;

        public Task BeginLoadAsync(TableSchema table, TableProgress begun, CancellationToken cancellation) =>
            Put(table.Name, begun, _ => []);

        public Task LoadAsync(TableSchema table, RowBlock block, CancellationToken cancellation) =>
            Put(table.Name, sink.tables[table.Name].Progress, rows =>
            {
                var reader = new ChangeReader(block.Rows);
                while (reader.TryRead(out var change))
                {
                    rows = rows.SetItem(RowKey.Of(change.After, table.KeyOrdinals), change.After);
                }

                return rows;
            });

        public Task EndLoadAsync(TableSchema table, TableProgress loaded, CancellationToken cancellation) =>
            Put(table.Name, loaded, rows => rows);

        public Task ApplyAsync(FoldedTable table, TableProgress progress, CancellationToken cancellation) =>
            Put(table.Table.Name, progress, rows => Applied(table, table.EmptiedFirst ? [] : rows));

        /// <summary>The rows of a table that is not there yet have no step of their own.</summary>
        public Task SaveAsync(TableProgress progress, CancellationToken cancellation)
        {
            if (sink.tables.FirstOrDefault(pair => pair.Value.Progress.Table == progress.Table) is { Value: not null } there)
            {
                return Put(there.Key, progress, rows => rows);
            }

            ThrowIfFenced();
            sink.withoutRows[progress.Table] = progress;
            return Task.CompletedTask;
        }

        public ValueTask DisposeAsync() => ValueTask.CompletedTask;

        private Task Put(
            TableName table,
            TableProgress progress,
            Func<ImmutableDictionary<RowKey, Row>, ImmutableDictionary<RowKey, Row>> rows
        )
        {
            ThrowIfFenced();
            var before = sink.tables.TryGetValue(table, out var there) ? there.Rows : [];
            sink.tables[table] = new TableInMemory(rows(before), progress);
            sink.withoutRows.Remove(progress.Table);
            return Task.CompletedTask;
        }

        private static ImmutableDictionary<RowKey, Row> Applied(FoldedTable table, ImmutableDictionary<RowKey, Row> rows)
        {
            foreach (var row in table.Rows)
            {
                if (row.Kind == ChangeKind.Delete)
                {
                    rows = rows.Remove(RowKey.Of(row.Before, table.Table.KeyOrdinals));
                    continue;
                }

                // Values that the log left out stay as they are.
                var key = RowKey.Of(row.After, table.Table.KeyOrdinals);
                rows = rows.SetItem(key, rows.TryGetValue(key, out var there) ? RowMerge.Fill(row.After, there) : row.After);
            }

            return rows;
        }

        private void ThrowIfFenced()
        {
            if (sink.last != term)
            {
                throw new FencedException($"Term {sink.last} has taken over from {term}.") { Transient = true };
            }
        }
    }
}
