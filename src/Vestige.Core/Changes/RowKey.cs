using System.Buffers.Binary;

namespace Vestige.Core.Changes;

/// <summary>
/// The key of a row, compared by kind and bytes: the stricter side of any collation, so that two keys are taken for one
/// only when every engine takes them for one.
/// </summary>
public readonly struct RowKey : IEquatable<RowKey>
{
    private readonly byte[] bytes;
    private readonly int hash;

    private RowKey(byte[] bytes)
    {
        this.bytes = bytes;
        var code = default(HashCode);
        code.AddBytes(bytes);
        hash = code.ToHashCode();
    }

    /// <summary>A row that holds the key columns only, in key order.</summary>
    public static RowKey Of(Row key) => Of(key, key.Ordinals);

    /// <summary>Takes the key columns out of a row. A key value the log did not carry is an error in the log.</summary>
    public static RowKey Of(Row row, IReadOnlyList<int> keyOrdinals)
    {
        ArgumentNullException.ThrowIfNull(keyOrdinals);
        var size = 0;
        for (var i = 0; i < keyOrdinals.Count; i++)
        {
            size += 5 + row.ValueAt(keyOrdinals[i]).Length;
        }

        var key = new byte[size];
        var at = 0;
        for (var i = 0; i < keyOrdinals.Count; i++)
        {
            var kind = row.KindAt(keyOrdinals[i]);
            if (kind == ValueKind.Absent)
            {
                throw new InvalidDataException("A change arrived without its key.");
            }

            var value = row.ValueAt(keyOrdinals[i]);
            key[at] = (byte)kind;
            BinaryPrimitives.WriteInt32LittleEndian(key.AsSpan(at + 1), value.Length);
            value.CopyTo(key.AsSpan(at + 5));
            at += 5 + value.Length;
        }

        return new RowKey(key);
    }

    public ReadOnlySpan<byte> Bytes => bytes;

    public bool Equals(RowKey other) => hash == other.hash && bytes.AsSpan().SequenceEqual(other.bytes);

    public override bool Equals(object? obj) => obj is RowKey other && Equals(other);

    public override int GetHashCode() => hash;

    public static bool operator ==(RowKey left, RowKey right) => left.Equals(right);

    public static bool operator !=(RowKey left, RowKey right) => !left.Equals(right);

    /// <summary>The key as a person reads it: <c>7</c>, or <c>7, b</c> for a composite one.</summary>
    public static string Display(Row row, IReadOnlyList<int> keyOrdinals)
    {
        ArgumentNullException.ThrowIfNull(keyOrdinals);
        return string.Join(", ", keyOrdinals.Select(row.DisplayAt));
    }
}
