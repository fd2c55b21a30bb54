using System.Buffers;
using System.Runtime.CompilerServices;
using Vestige.Core.Changes;
using Vestige.Core.Expressions;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Engine.Faults;
using Vestige.Engine.Following;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Loading;

/// <summary>
/// Reads the rows of a chunk and treats them. Where every value crosses as it is, blocks pass as the source gives them, only
/// the columns that cross are asked for, and nothing is decoded.
/// </summary>
internal sealed class ChunkReader(ISourceSnapshot snapshot, IReadOnlySet<string> taken, Func<TableSchema, TableTreatment> treat)
{
    private static readonly HashSet<string> CommonForm = [];

    public IAsyncEnumerable<LoadedBlock> ReadAsync(LoadChunk chunk, CancellationToken cancellation) =>
        chunk.Load.Treatment is { PassesAll: true, KeepsTypes: true } ? PassAsync(chunk, cancellation) : TreatAsync(chunk, cancellation);

    private async IAsyncEnumerable<LoadedBlock> PassAsync(LoadChunk chunk, [EnumeratorCancellation] CancellationToken cancellation)
    {
        var table = chunk.Load.Table;
        var crossing = table with { Columns = [.. chunk.Load.Treatment.Columns.Select(column => table.Columns[column.Source])] };
        await foreach (var block in snapshot.ReadAsync(crossing, chunk.Range, taken, cancellation))
        {
            yield return new LoadedBlock(chunk, chunk.Load.Targets[0], block, block.Count);
        }
    }

    private async IAsyncEnumerable<LoadedBlock> TreatAsync(LoadChunk chunk, [EnumeratorCancellation] CancellationToken cancellation)
    {
        var treatment = treat(chunk.Load.Table);
        var made = new List<TreatedChange>();
        await foreach (var block in snapshot.ReadAsync(chunk.Load.Table, chunk.Range, CommonForm, cancellation))
        {
            var (rows, leftOut) = Treated(treatment, block, made);
            var written = false;
            for (var i = 0; i < rows.Length; i++)
            {
                if (rows[i] is { Count: > 0 } some)
                {
                    yield return new LoadedBlock(
                        chunk,
                        chunk.Load.Targets[i],
                        new RowBlock(some.Bytes.WrittenMemory, some.Count),
                        written ? 0 : block.Count
                    );
                    written = true;
                }
            }

            if (written)
            {
                chunk.Load.NotWritten(leftOut);
            }
            else
            {
                chunk.LeftOut(block.Count);
            }
        }
    }

    /// <summary>The rows of a block, by the target's tables, and how many of it go nowhere.</summary>
    private static (Gathered?[] Rows, int LeftOut) Treated(TableTreatment treatment, RowBlock block, List<TreatedChange> made)
    {
        var (gathered, leftOut) = (new Gathered?[treatment.Tables.Count], 0);
        var reader = new ChangeReader(block.Rows);
        while (reader.TryRead(out var change))
        {
            made.Clear();
            try
            {
                treatment.Load(change.After, made);
            }
            catch (EvaluationException exception)
            {
                throw ChangeRouter.Refused(treatment, change, exception);
            }

            leftOut += made.Count == 0 ? 1 : 0;
            foreach (var (table, row) in made)
            {
                var into = gathered[PlaceOf(treatment, table)] ??= new Gathered(block.Rows.Length);
                ChangeWriter.Write(into.Bytes, row);
                into.Count++;
            }
        }

        return (gathered, leftOut);
    }

    private static int PlaceOf(TableTreatment treatment, TreatedTable table)
    {
        var ordinal = 0;
        while (!ReferenceEquals(treatment.Tables[ordinal], table))
        {
            ordinal++;
        }

        return ordinal;
    }

    private sealed class Gathered(int bytes)
    {
        public ArrayBufferWriter<byte> Bytes { get; } = new(Math.Max(1024, bytes));

        public int Count { get; set; }
    }
}
