using System.Buffers;
using System.Buffers.Binary;
using System.Text;

namespace Vestige.Core.Changes;

/// <summary>Builds <see cref="Row"/> segments one after the other, reusing its buffer. Not safe for several threads.</summary>
public sealed class RowWriter
{
    private const int FirstBytes = 512;

    /// <summary>A buffer that one large row has made is not kept for the small ones after it.</summary>
    private const int MostKept = 1 << 20;
    private byte[] buffer = new byte[FirstBytes];
    private int columns;
    private int written;
    private int values;

    /// <summary>Starts a row of that many columns; every column must then be written once, in order.</summary>
    public void Begin(int count)
    {
        ArgumentOutOfRangeException.ThrowIfGreaterThan(count, ushort.MaxValue);
        columns = count;
        written = 0;
        values = 0;
        Trim();
        Reserve(Row.CountSize + (Row.SlotSize * count));
        BinaryPrimitives.WriteUInt16LittleEndian(buffer, (ushort)count);
    }

    /// <summary>Gives up the buffer of a large row; what <see cref="Finish"/> returned is not valid any more.</summary>
    public void Trim() => buffer = buffer.Length > MostKept ? new byte[FirstBytes] : buffer;

    public void Null() => Close(ValueKind.Null);

    public void Absent() => Close(ValueKind.Absent);

    public void Integer(long value)
    {
        BinaryPrimitives.WriteInt64LittleEndian(Claim(sizeof(long)), value);
        Close(ValueKind.Integer);
    }

    public void Real(double value)
    {
        BinaryPrimitives.WriteDoubleLittleEndian(Claim(sizeof(double)), value);
        Close(ValueKind.Real);
    }

    public void Text(string value)
    {
        ArgumentNullException.ThrowIfNull(value);
        Encoding.UTF8.GetBytes(value, Claim(Encoding.UTF8.GetByteCount(value)));
        Close(ValueKind.Text);
    }

    public void Value(ValueKind kind, ReadOnlySpan<byte> bytes)
    {
        bytes.CopyTo(Claim(bytes.Length));
        Close(kind);
    }

    /// <summary>Consecutive values of another row as they are, in one go.</summary>
    public void Values(Row row, int first, int count)
    {
        ArgumentOutOfRangeException.ThrowIfNegativeOrZero(count);
        var bytes = row.Bytes.Span;
        var there = Row.CountOf(bytes);
        var start = first == 0 ? 0 : (int)(Row.Slot(bytes, there, first - 1) & Row.OffsetMask);
        var end = (int)(Row.Slot(bytes, there, first + count - 1) & Row.OffsetMask);
        Room(count);
        var moved = values - start;
        bytes[(Row.CountSize + (Row.SlotSize * there))..][start..end].CopyTo(Claim(end - start));
        for (var i = 0; i < count; i++)
        {
            var slot = Row.Slot(bytes, there, first + i);
            Enter(slot >> Row.KindShift, (int)(slot & Row.OffsetMask) + moved);
        }
    }

    /// <summary>The finished segment, valid until the next <see cref="Begin"/>.</summary>
    public ReadOnlySpan<byte> Finish()
    {
        if (written != columns)
        {
            throw new InvalidOperationException($"The row has {columns} columns; {written} were written.");
        }

        return buffer.AsSpan(0, Row.CountSize + (Row.SlotSize * columns) + values);
    }

    /// <summary>The finished row in an array of its own.</summary>
    public Row ToRow() => new(Finish().ToArray());

    private Span<byte> Claim(int size)
    {
        var start = Row.CountSize + (Row.SlotSize * columns) + values;
        Reserve(start + size);
        values += size;
        if ((uint)values > Row.OffsetMask)
        {
            throw new InvalidDataException("A row of 256 MB or more cannot be replicated.");
        }

        return buffer.AsSpan(start, size);
    }

    private void Close(ValueKind kind)
    {
        Room(1);
        Enter((uint)kind, values);
    }

    private void Room(int count)
    {
        if (written + count > columns)
        {
            throw new InvalidOperationException($"The row has only {columns} columns.");
        }
    }

    private void Enter(uint kind, int end)
    {
        BinaryPrimitives.WriteUInt32LittleEndian(
            buffer.AsSpan(Row.CountSize + (Row.SlotSize * written)),
            (kind << Row.KindShift) | (uint)end
        );
        written++;
    }

    private void Reserve(int size)
    {
        if (buffer.Length < size)
        {
            Array.Resize(ref buffer, Math.Max(size, buffer.Length * 2));
        }
    }
}
