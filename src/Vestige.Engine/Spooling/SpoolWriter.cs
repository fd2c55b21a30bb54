using System.Buffers;
using System.Text.Json;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Spooling;

/// <summary>
/// Puts transactions into records of the newest file and counts them. A data record holds whole transactions or a part of
/// one, never both. What it has counted is ahead of what is durable until the spool has synced.
/// </summary>
internal sealed class SpoolWriter(ISpoolCipher cipher, SpoolOptions options)
{
    /// <summary>The number of the last record written into the newest file.</summary>
    public long Sequence { get; private set; }

    public long Transactions { get; private set; }

    public long Changes { get; private set; }

    /// <summary>The last whole transaction that was written.</summary>
    public LogPosition Written { get; private set; }

    /// <summary>Whether a note was written that no sync has made durable yet.</summary>
    public bool HasNote { get; private set; }

    /// <summary>Whether the last fragment written leaves a transaction open.</summary>
    public bool Inside { get; private set; }

    /// <summary>Goes on behind what a file holds.</summary>
    public void Resume(LogPosition written, long sequence, long transactions, long changes)
    {
        Written = written;
        Sequence = sequence;
        Transactions = transactions;
        Changes = changes;
        Inside = false;
        HasNote = false;
    }

    /// <summary>Everything written is durable.</summary>
    public void Synced() => HasNote = false;

    /// <summary>Writes what a file begins with; the list of tables comes last and says that it is complete.</summary>
    public async Task BeginFileAsync(
        ISpoolFile file,
        SpoolHeader header,
        IReadOnlyDictionary<int, TableSchema> relations,
        IReadOnlyList<SpooledTable> tables,
        IReadOnlyDictionary<string, string> notes,
        CancellationToken cancellation)
    {
        Sequence = 0;
        await AddAsync(file, SpoolRecordKind.Header, default, complete: true, JsonSerializer.SerializeToUtf8Bytes(header), cancellation);
        foreach (var (number, table) in relations)
        {
            await AddRelationAsync(file, number, table, cancellation);
        }

        foreach (var (name, text) in notes)
        {
            await AddNoteAsync(file, name, text, cancellation);
        }

        await AddTablesAsync(file, tables, cancellation);
    }

    public async Task AddNoteAsync(ISpoolFile file, string name, string text, CancellationToken cancellation)
    {
        await AddAsync(file, SpoolRecordKind.Note, default, complete: true, JsonSerializer.SerializeToUtf8Bytes(KeyValuePair.Create(name, text)), cancellation);
        HasNote = true;
    }

    public Task AddTablesAsync(ISpoolFile file, IReadOnlyList<SpooledTable> tables, CancellationToken cancellation) =>
        AddAsync(file, SpoolRecordKind.Tables, default, complete: true, JsonSerializer.SerializeToUtf8Bytes(tables), cancellation);

    public Task AddRelationAsync(ISpoolFile file, int number, TableSchema table, CancellationToken cancellation) =>
        AddAsync(file, SpoolRecordKind.Relation, new LogPosition((ulong)number), complete: true, JsonSerializer.SerializeToUtf8Bytes(table), cancellation);

    public async Task AppendAsync(ISpoolFile file, IReadOnlyList<LogFragment> fragments, DateTimeOffset capturedAt, CancellationToken cancellation)
    {
        var body = new ArrayBufferWriter<byte>();
        foreach (var fragment in fragments)
        {
            if (body.WrittenCount > 0 && (!fragment.Whole || body.WrittenCount >= options.RecordBytes))
            {
                await AddDataAsync(file, body, cancellation);
            }

            FragmentCodec.Write(body, fragment, capturedAt);
            Transactions += fragment.Last ? 1 : 0;
            Changes += fragment.Count;
            Inside = !fragment.Last;
            if (fragment.Last)
            {
                Written = fragment.Position;
            }

            if (!fragment.Whole)
            {
                await AddDataAsync(file, body, cancellation);
            }
        }

        if (body.WrittenCount > 0)
        {
            await AddDataAsync(file, body, cancellation);
        }
    }

    private async Task AddDataAsync(ISpoolFile file, ArrayBufferWriter<byte> body, CancellationToken cancellation)
    {
        await AddAsync(file, SpoolRecordKind.Data, Written, !Inside, body.WrittenMemory, cancellation);
        body.ResetWrittenCount();
    }

    private Task AddAsync(ISpoolFile file, SpoolRecordKind kind, LogPosition last, bool complete, ReadOnlyMemory<byte> body, CancellationToken cancellation) =>
        file.AppendAsync(new SpoolRecord(++Sequence, kind, last, complete, Transactions, Changes, cipher.Seal(body.Span)), cancellation);
}
