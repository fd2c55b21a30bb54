using System.Buffers;
using System.Diagnostics;
using System.Runtime.CompilerServices;
using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Expressions;
using Vestige.Core.Positions;
using Vestige.Core.Reconciling;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Core.Types;
using Vestige.Engine.Ports;
using Vestige.Engine.Reconciling;

namespace Vestige.Bench;

/// <summary>
/// Peak memory of comparing very many rows that are made as they are read, of which some differ on one side; the same with a fiftieth of
/// them is the baseline.
/// </summary>
internal static class ComparingMemory
{
    private static readonly TableSchema Schema = new(
        new TableName("made", "item"),
        [new Column("id", "INTEGER", Nullable: false, KeyOrdinal: 1), new Column("v", "TEXT")],
        [],
        []
    );

    public static async Task RunAsync(long rows)
    {
        var small = await CompareAsync(Math.Max(1, rows / 50));
        var large = await CompareAsync(rows);
        Console.WriteLine(
            $"resident memory at most with {rows / 50:N0} rows: {small >> 20} MB; with {rows:N0}: {large >> 20} MB; ratio "
                + $"{(double)large / small:0.00}  (asked: bounded)"
        );
    }

    private static async Task<long> CompareAsync(long rows)
    {
        var definition = new CrossingDefinition("bench", CrossingDefinition.Copy, "a", "b", new TableRules([new TableRule(Take: "*")]));
        var treatment = TreatmentBuilder.Build(definition, Schema, name => name, PlainNumbers.Instance, new BenchKeys()).Treatment!;
        await using MadeRows source = new(rows, differs: false),
            target = new(rows, differs: true);
        var comparer = new TableComparer(
            treatment,
            ComparedTable.Of(treatment, PlainNumbers.Instance, PlainNumbers.Instance),
            source,
            target,
            [],
            new LogPosition(1),
            TimeProvider.System,
            10_000
        );
        long most = 0;
        using var ending = new CancellationTokenSource();
        var watching = Task.Run(async () =>
        {
            while (!ending.IsCancellationRequested)
            {
                using var process = Process.GetCurrentProcess();
                most = Math.Max(most, process.WorkingSet64);
                await Task.Delay(50);
            }
        });
        var watch = Stopwatch.StartNew();
        var found = (await comparer.RunAsync(KeySpan.All, rows, CancellationToken.None)).Single();
        await ending.CancelAsync();
        await watching;
        if (found.SourceRows != rows || found.Differing != rows / MadeRows.Damaged)
        {
            throw new InvalidOperationException($"{found.Differing} of {found.SourceRows} rows were found to differ.");
        }

        Console.WriteLine(
            $"{rows:N0} rows on each side, {found.Differing:N0} of them differing, in {watch.Elapsed.TotalSeconds:0.0} s: "
                + $"{rows / watch.Elapsed.TotalSeconds:N0} rows/s"
        );
        return most;
    }

    /// <summary>Rows that are made as they are read; every millionth is another on one side.</summary>
    private sealed class MadeRows(long rows, bool differs) : IRowsView
    {
        public const long Damaged = 1_000_000;

        public LogPosition? Position => new LogPosition(1);

        public TargetProgress Progress => TargetProgress.None;

        public IRowDigests? Digests => null;

        public Task<IReadOnlyList<TableDescription>> ReadTablesAsync(CancellationToken cancellation) =>
            Task.FromResult<IReadOnlyList<TableDescription>>([]);

        public Task<IReadOnlyList<Row>> CutAsync(TableSchema table, KeySpan within, int ranges, CancellationToken cancellation) =>
            Task.FromResult<IReadOnlyList<Row>>([.. Enumerable.Range(1, ranges - 1).Select(i => Key(i * rows / ranges)).Distinct()]);

        public async IAsyncEnumerable<RowBlock> ReadAsync(
            TableSchema table,
            KeySpan within,
            [EnumeratorCancellation] CancellationToken cancellation
        )
        {
            var writer = new RowWriter();
            var (next, end) = (
                within.From.IsNone ? 1 : within.From.IntegerAt(0),
                within.Before.IsNone ? rows + 1 : within.Before.IntegerAt(0)
            );
            while (next < end)
            {
                await Task.CompletedTask;
                var (block, count) = (new ArrayBufferWriter<byte>(70_000), 0);
                for (; next < end && count < 1000; next++, count++)
                {
                    writer.Begin(2);
                    writer.Integer(next);
                    writer.Text(differs && next % Damaged == 0 ? "another" : "a value of some length");
                    ChangeWriter.Write(block, ChangeKind.Insert, 0, default, writer.Finish());
                }

                yield return new RowBlock(block.WrittenMemory, count);
            }
        }

        public async Task<IReadOnlyList<Row>> FindAsync(TableSchema table, IReadOnlyList<Row> keys, CancellationToken cancellation)
        {
            var found = new List<Row>();
            foreach (var key in keys)
            {
                await foreach (var block in ReadAsync(table, new KeySpan(key, Key(key.IntegerAt(0) + 1)), cancellation))
                {
                    var reader = new ChangeReader(block.Rows);
                    reader.TryRead(out var change);
                    found.Add(change.After);
                }
            }

            return found;
        }

        public Task<IReadOnlyList<Row>> SampleAsync(TableSchema table, int rows, CancellationToken cancellation) =>
            throw new NotSupportedException();

        public ValueTask DisposeAsync() => ValueTask.CompletedTask;

        private static Row Key(long key)
        {
            var writer = new RowWriter();
            writer.Begin(1);
            writer.Integer(key);
            return writer.ToRow();
        }
    }

    /// <summary>An engine of whole numbers and texts.</summary>
    private sealed class PlainNumbers : IEngineTypes
    {
        public static PlainNumbers Instance { get; } = new();

        public IRowEncoding Encoding => KindEncoding.Instance;

        public int? LongestName => null;

        public string Spelled(string type) => type;

        public ColumnMeaning MeaningOf(Column column) => new(column.Type == "INTEGER" ? ExpressionType.Integer : ExpressionType.Text);

        public RepeatedValue? RepeatOf(Column column) => null;

        public string TypeFor(ExpressionType type) => "TEXT";

        public LogicalType TypeOf(Column column) => LogicalType.Of(MeaningOf(column));

        public string Declare(LogicalType type) => TypeFor(ColumnMeaning.Of(type).Type);

        public TypeChange ChangeOf(string from, string to) => new(TypeOutcome.Keeps, "");
    }
}
