using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Readiness;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Tests.Toys.OrderedList;

/// <summary>The least that takes changes in order: it appends them to a list in memory.</summary>
public sealed class ListConnector : IConnector, IProbe, IChangeSink
{
    private readonly Dictionary<string, long> terms = [];
    private readonly List<ListEntry> entries = [];
    private int loads;

    /// <summary>All that was ever written.</summary>
    public IReadOnlyList<ListEntry> Entries => entries;

    public Delivery Delivery => Delivery.AtLeastOnceWithId;

    public T? Find<T>()
        where T : class => this as T;

    public TableName NameFor(TableName source) => source;

    public Task<string> GetIdentityAsync(CancellationToken cancellation) => Task.FromResult("list");

    public Task<bool> IsSameAsync(IProbe other, CancellationToken cancellation) => Task.FromResult(ReferenceEquals(this, other));

    public Task<IReadOnlyList<ReadinessCheck>> TestAsync(CancellationToken cancellation) =>
        Task.FromResult<IReadOnlyList<ReadinessCheck>>([new("list", true, "it is in memory", "a list", null, TimeSpan.Zero)]);

    public Task<IReadOnlyList<ReadinessCheck>> CheckTargetAsync(
        IReadOnlyList<TableSchema> tables,
        IReadOnlyDictionary<TableName, ExistingRows> existing,
        IReadOnlySet<TableName> begun,
        CancellationToken cancellation
    ) => Task.FromResult<IReadOnlyList<ReadinessCheck>>([]);

    public Task<IChangeWriter> OpenWriterAsync(string crossing, long term, CancellationToken cancellation)
    {
        if (terms.GetValueOrDefault(crossing) is var before && term <= before)
        {
            throw new FencedException($"Term {before} is at work.") { Transient = true, Term = before };
        }

        terms[crossing] = term;
        return Task.FromResult<IChangeWriter>(new Writer(this, crossing, term));
    }

    public ValueTask DisposeAsync() => ValueTask.CompletedTask;

    private sealed class Writer(ListConnector list, string crossing, long term) : IChangeWriter
    {
        private readonly Dictionary<TableName, (string Id, int Rows)> begun = [];

        public Task BeginLoadAsync(TableSchema table, TableProgress begun, CancellationToken cancellation)
        {
            ThrowIfFenced();
            var id = $"load {++list.loads}";
            this.begun[table.Name] = (id, 0);
            list.entries.Add(new ListEntry(ListEntryKind.LoadBegan, id, new OrderedChange(0, 0, begun.Table, table, default), null));
            return Task.CompletedTask;
        }

        public Task LoadAsync(TableSchema table, RowBlock block, CancellationToken cancellation)
        {
            ThrowIfFenced();
            var (id, rows) = begun[table.Name];
            var reader = new ChangeReader(block.Rows);
            while (reader.TryRead(out var change))
            {
                var row = new OrderedChange(rows++, 0, table.Name, table, change);
                list.entries.Add(new ListEntry(ListEntryKind.Loaded, $"{id} {row.Ordinal}", row, null));
            }

            begun[table.Name] = (id, rows);
            return Task.CompletedTask;
        }

        public Task EndLoadAsync(TableSchema table, TableProgress loaded, CancellationToken cancellation)
        {
            ThrowIfFenced();
            var end = new OrderedChange(0, 0, loaded.Table, table, default);
            list.entries.Add(new ListEntry(ListEntryKind.LoadEnded, begun[table.Name].Id, end, null));
            return Task.CompletedTask;
        }

        public Task WriteAsync(IReadOnlyList<OrderedTransaction> transactions, CancellationToken cancellation)
        {
            ThrowIfFenced();
            foreach (var transaction in transactions)
            {
                foreach (var change in transaction.Changes)
                {
                    var id = $"{transaction.Log} {transaction.Position.Offset} {change.Ordinal} {change.Number}";
                    list.entries.Add(new ListEntry(ListEntryKind.Changed, id, change, transaction));
                }
            }

            return Task.CompletedTask;
        }

        public ValueTask DisposeAsync() => ValueTask.CompletedTask;

        private void ThrowIfFenced()
        {
            if (list.terms[crossing] != term)
            {
                throw new FencedException($"Term {list.terms[crossing]} has taken over from {term}.") { Transient = true };
            }
        }
    }
}
