using System.Buffers;
using System.Text.Json;
using Vestige.Core.Changes;
using Vestige.Core.Joining;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Spooling;

/// <summary>
/// Puts transactions into records of the newest file and counts them. A data record holds whole transactions or a part of
/// one, never both. What it has counted is ahead of what is durable until the spool has synced.
/// </summary>
internal sealed class SpoolWriter(ISpoolCipher cipher, SpoolOptions options, Func<int, TableSchema> formOf)
{
    private const int ReadBytes = 4 << 20;
    private readonly Dictionary<int, (ulong Table, IReadOnlyList<int> Key)> relations = [];
    private readonly HashSet<ulong> keys = [];

    /// <summary>A sixty-fourth of a file: with changes of 100 bytes it excludes a key about as surely as the filter of a record.</summary>
    private readonly byte[] fileFilter = new byte[Math.Clamp(options.FileBytes / 64, 64, 4 << 20)];

    /// <summary>The number of the last record written into the newest file.</summary>
    public long Sequence { get; private set; }

    public long Transactions { get; private set; }

    public long Changes { get; private set; }

    /// <summary>The last whole transaction that was written.</summary>
    public LogPosition Written { get; private set; }

    /// <summary>
    /// Where the log can be continued after <see cref="Written"/>, in the source's words; null where the position says that.
    /// </summary>
    public string? Token { get; private set; }

    /// <summary>Whether a note was written that no sync has made durable yet.</summary>
    public bool HasNote { get; private set; }

    /// <summary>Whether the last fragment written leaves a transaction open.</summary>
    public bool Inside { get; private set; }

    /// <summary>Goes on after what a file holds.</summary>
    public void Resume(LogPosition written, string? token, long sequence, long transactions, long changes)
    {
        Written = written;
        Token = token;
        Sequence = sequence;
        Transactions = transactions;
        Changes = changes;
        Inside = false;
        HasNote = false;
        relations.Clear();
        keys.Clear();
        Array.Clear(fileFilter);
    }

    /// <summary>Which keys the file holds changes of, encrypted.</summary>
    public byte[] FilterOfFile() => cipher.Seal(fileFilter);

    /// <summary>Notes the keys of what a file held before this process wrote into it.</summary>
    public async Task NoteKeysAsync(ISpoolFile file, CancellationToken cancellation)
    {
        for (var sequence = 0L; ;)
        {
            var records = await file.ReadAsync(sequence, ReadBytes, cancellation);
            if (records.Count == 0)
            {
                keys.Clear();
                return;
            }

            foreach (
                var fragment in records.SelectMany(record =>
                    FragmentCodec.Read(cipher.Open(record.Body.Span), Written.Branch, record.Transactions, record.Changes)
                )
            )
            {
                NoteKeys(fragment.Changes);
                Token = fragment.Last && fragment.Position <= Written ? fragment.Token : Token;
            }

            keys.Clear();
            sequence = records[^1].Sequence;
        }
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
        CancellationToken cancellation
    )
    {
        Sequence = 0;
        Array.Clear(fileFilter);
        await AddAsync(file, SpoolRecordKind.Header, 0, complete: true, JsonSerializer.SerializeToUtf8Bytes(header), cancellation);
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
        await AddAsync(
            file,
            SpoolRecordKind.Note,
            0,
            complete: true,
            JsonSerializer.SerializeToUtf8Bytes(KeyValuePair.Create(name, text)),
            cancellation
        );
        HasNote = true;
    }

    public Task AddTablesAsync(ISpoolFile file, IReadOnlyList<SpooledTable> tables, CancellationToken cancellation) =>
        AddAsync(file, SpoolRecordKind.Tables, 0, complete: true, JsonSerializer.SerializeToUtf8Bytes(tables), cancellation);

    public Task AddJoinAsync(ISpoolFile file, JoinPoint join, CancellationToken cancellation) =>
        AddAsync(file, SpoolRecordKind.Join, 0, complete: true, JsonSerializer.SerializeToUtf8Bytes(join), cancellation);

    public Task AddRelationAsync(ISpoolFile file, int number, TableSchema table, CancellationToken cancellation) =>
        AddAsync(file, SpoolRecordKind.Relation, (ulong)number, complete: true, JsonSerializer.SerializeToUtf8Bytes(table), cancellation);

    public async Task AppendAsync(
        ISpoolFile file,
        IReadOnlyList<LogFragment> fragments,
        DateTimeOffset capturedAt,
        CancellationToken cancellation
    )
    {
        var body = new ArrayBufferWriter<byte>();
        foreach (var fragment in fragments)
        {
            if (body.WrittenCount > 0 && (!fragment.Whole || body.WrittenCount >= options.RecordBytes))
            {
                await AddDataAsync(file, body, cancellation);
            }

            FragmentCodec.Write(body, fragment, capturedAt);
            NoteKeys(fragment.Changes);
            Transactions += fragment.Last ? 1 : 0;
            Changes += fragment.Count;
            Inside = !fragment.Last;
            if (fragment.Last)
            {
                (Written, Token) = (fragment.Position, fragment.Token);
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
        var record = new SpoolRecord(
            ++Sequence,
            SpoolRecordKind.Data,
            Written.Offset,
            !Inside,
            Transactions,
            Changes,
            cipher.Seal(body.WrittenSpan)
        );
        await file.AppendAsync(record with { Filter = cipher.Seal(KeyFilter.Of(keys)) }, cancellation);
        body.ResetWrittenCount();
        keys.Clear();
    }

    private void NoteKeys(ReadOnlyMemory<byte> changes)
    {
        var reader = new ChangeReader(changes);
        while (reader.TryRead(out var change))
        {
            var (table, key) = RelationOf(change.Relation);
            if (change.Kind is ChangeKind.Truncate or ChangeKind.Schema)
            {
                Note(table);
            }
            else if (key.Count > 0)
            {
                NoteKey(table, key, change.Before);
                NoteKey(table, key, change.After);
            }
        }
    }

    private void NoteKey(ulong table, IReadOnlyList<int> key, Row row)
    {
        if (!row.IsNone)
        {
            Note(KeyHash.Of(table, row, key));
        }
    }

    private void Note(ulong hash)
    {
        if (keys.Add(hash))
        {
            KeyFilter.Add(fileFilter, hash);
        }
    }

    private (ulong Table, IReadOnlyList<int> Key) RelationOf(int number)
    {
        if (!relations.TryGetValue(number, out var found))
        {
            var form = formOf(number);
            relations.Add(number, found = (KeyHash.Of(form.Name), form.KeyOrdinals));
        }

        return found;
    }

    private Task AddAsync(
        ISpoolFile file,
        SpoolRecordKind kind,
        ulong last,
        bool complete,
        ReadOnlyMemory<byte> body,
        CancellationToken cancellation
    ) => file.AppendAsync(new SpoolRecord(++Sequence, kind, last, complete, Transactions, Changes, cipher.Seal(body.Span)), cancellation);
}
