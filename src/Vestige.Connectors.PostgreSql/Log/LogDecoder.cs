using System.Buffers;
using System.Text;
using Vestige.Connectors.PostgreSql.Watching;
using Vestige.Connectors.PostgreSql.Wire;
using Vestige.Core.Changes;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.PostgreSql.Log;

/// <summary>
/// Turns the messages of the server's own output plugin (PostgreSQL manual, Logical Replication Message Formats, version 1)
/// into fragments of transactions. A transaction's position is the offset just after the start of its commit record: known
/// from its first message, ordered as the commits are, and what the server passes over when told to continue from there. What
/// lies up to the <c>known</c> position gives nothing.
/// </summary>
internal sealed class LogDecoder
{
    /// <summary>
    /// The largest change that is carried, in bytes: a row has room for 256 MiB, and each is in memory several times on its way.
    /// </summary>
    public const int MostBytes = 250_000_000;

    /// <summary>Below the size from which .NET puts an array on its large object heap.</summary>
    private const int ChunkBytes = 64 << 10;
    private const int LeastRoomBytes = 4 << 10;
    private const int PartBytes = 1 << 20;
    private readonly RelationSchemas forms;
    private readonly TableWatch watch;
    private readonly LogPosition known;
    private readonly RowWriter before = new();
    private readonly RowWriter after = new();

    /// <summary>Holds the changes of several small transactions, one after the other; what was written is never written over.</summary>
    private ArrayBufferWriter<byte> body = new(ChunkBytes);

    /// <summary>Where in it the fragment at hand begins.</summary>
    private int begin;
    private List<LogFragment> fragments = [];
    private LogPosition position;
    private DateTimeOffset committedAt;
    private bool isFirst;
    private bool isKnown;

    /// <summary>Whether a message of this transaction has told what was done to a table.</summary>
    private bool tells;
    private int count;
    private uint transaction;
    private string? said;
    private string? origin;
    private string? route;

    public LogDecoder(RelationSchemas forms, TableWatch watch, LogPosition known)
    {
        this.forms = forms;
        this.watch = watch;
        this.known = known;
        Passed = known;
    }

    /// <summary>
    /// Called at the end of each transaction: its position, and the last of our own messages in it; null when it has none.
    /// </summary>
    public Action<LogPosition, string?>? Ended { get; set; }

    /// <summary>Called when a table is emptied, with the number of the transaction.</summary>
    public Action<TableName, uint>? Emptied { get; set; }

    /// <summary>Everything up to here was seen; never inside a transaction.</summary>
    public LogPosition Passed { get; private set; }

    public bool Inside { get; private set; }

    /// <summary>
    /// Whether a transaction that ended since the last call of <see cref="Take"/> told what was done to tables. What is known of them is
    /// noted between transactions, so the read ends there: a process that begins must not miss what the spool has.
    /// </summary>
    public bool HasTold { get; private set; }

    /// <summary>How much has gathered since the last call of <see cref="Take"/>.</summary>
    public int Bytes { get; private set; }

    /// <summary>The server says that it has sent everything up to a place.</summary>
    public void PassTo(LogPosition position)
    {
        if (!Inside)
        {
            Passed = LogPosition.Max(Passed, position);
        }
    }

    public List<LogFragment> Take()
    {
        var taken = fragments;
        fragments = [];
        Bytes = 0;
        HasTold = false;
        return taken;
    }

    public async ValueTask DecodeAsync(ReadOnlyMemory<byte> message, CancellationToken cancellation)
    {
        var kind = (char)message.Span[0];
        if (kind == 'R')
        {
            await forms.TakeAsync(message, position, transaction, cancellation);
            return;
        }

        if (kind is 'I' or 'U' or 'D' or 'T' && !isKnown)
        {
            TellChanges();
        }

        Decode(message.Span);
    }

    /// <summary>
    /// Takes a change of which only the beginning was read. Its table is held there: to skip the change would make the copy wrong, to
    /// carry it would take unbounded memory. A later load copies the row, since it does not read it from the log.
    /// </summary>
    /// <param name="beginning">The kind of the message, the table's number, and more that is not looked at.</param>
    /// <param name="bytes">The size of the whole.</param>
    public void DecodeTooLarge(ReadOnlySpan<byte> beginning, int bytes)
    {
        if (isKnown || (char)beginning[0] is not ('I' or 'U' or 'D'))
        {
            return;
        }

        TellChanges();
        var reader = new WireReader(beginning[1..]);
        var relation = forms.Of(reader.UInt32(), position);
        if (relation.Schema is not null)
        {
            new SchemaNotice(
                $"a change of one row has {Figures.Bytes(bytes)}, more than the {Figures.Bytes(MostBytes)} that are carried",
                IsExact: true
            ).Write(after);
            Wrote(ChangeWriter.Write(body, ChangeKind.Schema, relation.Number, default, after.Finish()));
        }
    }

    /// <summary>What was done to tables stands before the rows that may have been written after it.</summary>
    private void TellChanges()
    {
        if (watch.Pending.Count == 0)
        {
            return;
        }

        foreach (var change in watch.Pending)
        {
            change.Notice.Write(after);
            Wrote(
                ChangeWriter.Write(body, ChangeKind.Schema, forms.NumberOf(change), default, after.Finish())
            );
        }

        watch.ReportedUpTo(position);
    }

    /// <summary>For what is said of a table whatever its columns are.</summary>
    public static TableSchema Bare(TableName table) => new(table, [], [], []);

    private void Decode(ReadOnlySpan<byte> message)
    {
        var reader = new WireReader(message);
        switch ((char)reader.Byte())
        {
            case 'B':
                position = new LogPosition(reader.UInt64() + 1);
                committedAt = ReplicationLink.TimeOf(reader.Int64());
                transaction = reader.UInt32();
                (Inside, isFirst, count) = (true, true, 0);
                (isKnown, said, origin, route, tells) = (position <= known, null, null, null, false);
                break;
            case 'C':
                reader.Byte();
                reader.UInt64();
                EndTransaction(new LogPosition(reader.UInt64()));
                break;
            case 'O':
                reader.UInt64();
                origin = reader.Text();
                break;
            case 'M':
                Message(ref reader);
                break;
            case 'I' or 'U' or 'D' or 'T' when isKnown:
                break;
            case 'I':
                Insert(ref reader);
                break;
            case 'U':
                Update(ref reader);
                break;
            case 'D':
                Delete(ref reader);
                break;
            case 'T':
                Truncate(ref reader);
                break;
        }
    }

    private void EndTransaction(LogPosition end)
    {
        // Before the rows of later transactions, and before loads that begin behind this one.
        if (tells)
        {
            TellChanges();
            HasTold = true;
        }

        if (count > 0 || !isFirst)
        {
            EndFragment(isLast: true);
        }

        Inside = false;
        Passed = LogPosition.Max(Passed, end);
        Ended?.Invoke(position, said);
    }

    private void Message(ref WireReader reader)
    {
        reader.Byte();
        reader.UInt64();
        switch (reader.Text())
        {
            case LogHeartbeat.Prefix:
                said = Encoding.UTF8.GetString(reader.Bytes(reader.Int32()));
                break;
            case RouteMessage.Prefix:
                route = Encoding.UTF8.GetString(reader.Bytes(reader.Int32()));
                break;
            case ChangeRecorder.Prefix:
                if (RecordedChange.Parse(Encoding.UTF8.GetString(reader.Bytes(reader.Int32()))) is { } change)
                {
                    watch.Take(change, position);
                    tells = !isKnown;
                }

                break;
        }
    }

    private void Insert(ref WireReader reader)
    {
        var relation = forms.Of(reader.UInt32(), position);
        if (relation.Schema is null)
        {
            return;
        }

        reader.Byte();
        Row(ref reader, after, relation, keyOnly: false);
        Wrote(ChangeWriter.Write(body, ChangeKind.Insert, relation.Number, default, after.Finish()));
    }

    private void Update(ref WireReader reader)
    {
        var relation = forms.Of(reader.UInt32(), position);
        if (relation.Schema is null)
        {
            return;
        }

        var kind = (char)reader.Byte();
        var hasBefore = kind is 'K' or 'O';
        if (hasBefore)
        {
            Row(ref reader, before, relation, keyOnly: kind == 'K');
            reader.Byte();
        }

        Row(ref reader, after, relation, keyOnly: false);
        Wrote(ChangeWriter.Write(body, ChangeKind.Update, relation.Number, hasBefore ? before.Finish() : default, after.Finish()));
    }

    private void Delete(ref WireReader reader)
    {
        var relation = forms.Of(reader.UInt32(), position);
        if (relation.Schema is null)
        {
            return;
        }

        Row(ref reader, before, relation, keyOnly: (char)reader.Byte() == 'K');
        Wrote(ChangeWriter.Write(body, ChangeKind.Delete, relation.Number, before.Finish(), default));
    }

    private void Truncate(ref WireReader reader)
    {
        var relations = reader.Int32();
        reader.Byte();
        for (var i = 0; i < relations; i++)
        {
            var relation = forms.Of(reader.UInt32(), position);
            if (relation.Schema is not null)
            {
                Wrote(ChangeWriter.Write(body, ChangeKind.Truncate, relation.Number, default, default));
                Emptied?.Invoke(relation.Name, transaction);
            }
        }
    }

    /// <summary>
    /// A row's values in the server's text form. Of an old row of which only the key is logged, the others come as NULL and
    /// mean nothing, so they are absent here; so is a large value that did not change.
    /// </summary>
    private static void Row(ref WireReader reader, RowWriter writer, LoggedRelation relation, bool keyOnly)
    {
        var columns = reader.Int16();
        writer.Begin(columns);
        for (var i = 0; i < columns; i++)
        {
            switch ((char)reader.Byte())
            {
                case 't':
                    writer.Value(ValueKind.Text, reader.Bytes(reader.Int32()));
                    break;
                case 'n' when keyOnly && !relation.IsKey[i]:
                case 'u':
                    writer.Absent();
                    break;
                case 'n':
                    writer.Null();
                    break;
                default:
                    throw new InvalidDataException("The log carries a value in a format that was not requested.");
            }
        }
    }

    private void Wrote(int bytes)
    {
        count++;
        Bytes += bytes;
        if (body.WrittenCount - begin >= PartBytes)
        {
            EndFragment(isLast: false);
        }
    }

    private void EndFragment(bool isLast)
    {
        fragments.Add(new LogFragment(position, committedAt, isFirst, isLast, count, body.WrittenMemory[begin..], origin, route));
        before.Trim();
        after.Trim();
        MakeRoom(isLast);
        isFirst = false;
        count = 0;
    }

    /// <summary>A buffer for each small transaction would be most of what reading a log allocates.</summary>
    private void MakeRoom(bool isLast)
    {
        begin = body.WrittenCount;
        if (!isLast || body.Capacity > ChunkBytes || body.FreeCapacity < LeastRoomBytes)
        {
            body = new ArrayBufferWriter<byte>(isLast ? ChunkBytes : PartBytes + LeastRoomBytes);
            begin = 0;
        }
    }
}
