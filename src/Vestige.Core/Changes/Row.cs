using System.Buffers.Binary;
using System.Globalization;
using System.Text;

namespace Vestige.Core.Changes;

/// <summary>
/// A row as one byte segment: a 16-bit column count, then for each column 4 bytes (kind in the high 4 bits, end offset of
/// its value in the low 28), then the values. Any value is reached without reading the others, and a row that needs no
/// treatment crosses without being decoded. The segment belongs to whoever made it; copy before keeping.
/// </summary>
public readonly struct Row : IEquatable<Row>
{
    internal const int CountSize = 2;
    internal const int SlotSize = 4;
    internal const int KindShift = 28;
    internal const uint OffsetMask = 0x0FFF_FFFF;

    /// <summary>Keys are asked for their ordinals often, and are short.</summary>
    private static readonly int[][] FirstPlaces =
    [
        [],
        [0],
        [0, 1],
        [0, 1, 2],
        [0, 1, 2, 3],
    ];

    public Row(ReadOnlyMemory<byte> bytes) => Bytes = bytes;

    /// <summary>The whole segment; empty for "no row".</summary>
    public ReadOnlyMemory<byte> Bytes { get; }

    public bool IsNone => Bytes.IsEmpty;

    public int Count => CountOf(Bytes.Span);

    /// <summary>The ordinals of all its columns, in order.</summary>
    public IReadOnlyList<int> Ordinals => Count < FirstPlaces.Length ? FirstPlaces[Count] : [.. Enumerable.Range(0, Count)];

    public ValueKind KindAt(int column)
    {
        var bytes = Bytes.Span;
        return (ValueKind)(Slot(bytes, CountOf(bytes), column) >> KindShift);
    }

    public ReadOnlySpan<byte> ValueAt(int column)
    {
        var bytes = Bytes.Span;
        var count = CountOf(bytes);
        var start = column == 0 ? 0 : (int)(Slot(bytes, count, column - 1) & OffsetMask);
        var end = (int)(Slot(bytes, count, column) & OffsetMask);
        return bytes[(CountSize + (SlotSize * count))..][start..end];
    }

    public long IntegerAt(int column) => BinaryPrimitives.ReadInt64LittleEndian(ValueAt(column));

    public double RealAt(int column) => BinaryPrimitives.ReadDoubleLittleEndian(ValueAt(column));

    public string TextAt(int column) => Encoding.UTF8.GetString(ValueAt(column));

    /// <summary>True when some value was not carried by the log.</summary>
    public bool HasAbsent
    {
        get
        {
            for (var i = 0; i < Count; i++)
            {
                if (KindAt(i) == ValueKind.Absent)
                {
                    return true;
                }
            }

            return false;
        }
    }

    /// <summary>Some of its columns, in the order given, as a row of its own with memory of its own.</summary>
    public Row Only(IReadOnlyList<int> columns)
    {
        ArgumentNullException.ThrowIfNull(columns);
        var writer = new RowWriter();
        writer.Begin(columns.Count);
        foreach (var column in columns)
        {
            writer.Value(KindAt(column), ValueAt(column));
        }

        return writer.ToRow();
    }

    /// <summary>The value as a person reads it; NULL is the word, absent is a dash, bytes are hexadecimal.</summary>
    public string DisplayAt(int column) =>
        KindAt(column) switch
        {
            ValueKind.Null => "NULL",
            ValueKind.Absent => "–",
            ValueKind.Integer => IntegerAt(column).ToString(CultureInfo.InvariantCulture),
            ValueKind.Real => RealAt(column).ToString("R", CultureInfo.InvariantCulture),
            ValueKind.Text => TextAt(column),
            _ => "0x" + Convert.ToHexString(ValueAt(column)),
        };

    /// <summary>Equality of kind and bytes, value by value.</summary>
    public bool Equals(Row other) => Bytes.Span.SequenceEqual(other.Bytes.Span);

    public override bool Equals(object? obj) => obj is Row other && Equals(other);

    public override int GetHashCode()
    {
        var hash = default(HashCode);
        hash.AddBytes(Bytes.Span);
        return hash.ToHashCode();
    }

    public static bool operator ==(Row left, Row right) => left.Equals(right);

    public static bool operator !=(Row left, Row right) => !left.Equals(right);

    internal static int CountOf(ReadOnlySpan<byte> bytes) => bytes.IsEmpty ? 0 : BinaryPrimitives.ReadUInt16LittleEndian(bytes);

    /// <summary>Kind and end of a value, where the row's bytes are at hand.</summary>
    internal static uint Slot(ReadOnlySpan<byte> bytes, int count, int column)
    {
        ArgumentOutOfRangeException.ThrowIfNegative(column);
        ArgumentOutOfRangeException.ThrowIfGreaterThanOrEqual(column, count);
        return BinaryPrimitives.ReadUInt32LittleEndian(bytes[(CountSize + (SlotSize * column))..]);
    }
}
