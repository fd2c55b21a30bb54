using System.Buffers;
using System.Buffers.Binary;
using System.Diagnostics.CodeAnalysis;
using System.Security.Cryptography;
using Vestige.Core.Changes;

namespace Vestige.Core.Reconciling;

/// <summary>
/// Hashes of rows: MD5 (RFC 1321) of the row in a form that both sides share, read as a number with its first byte highest. It is
/// taken for its 128 bits and because databases have it too; whoever can write rows could make two of one hash, so that it proves
/// nothing against an attacker. Not safe for several threads.
/// </summary>
public sealed class RowHash(IRowForm form)
{
    private readonly ArrayBufferWriter<byte> written = new(1024);

    /// <summary>The hash of all columns of a row.</summary>
    public UInt128 Of(Row row) => Of(row, row.Places);

    /// <summary>The hash of some columns of a row, in that order.</summary>
    public UInt128 Of(Row row, IReadOnlyList<int> columns)
    {
        written.ResetWrittenCount();
        form.Write(row, columns, written);
        return Of(written.WrittenSpan);
    }

    /// <summary>The hash of bytes.</summary>
    [SuppressMessage("Security", "CA5351:Do Not Use Broken Cryptographic Algorithms", Justification = "Compared, not trusted: databases compute the same.")]
    public static UInt128 Of(ReadOnlySpan<byte> bytes)
    {
        Span<byte> hash = stackalloc byte[MD5.HashSizeInBytes];
        MD5.HashData(bytes, hash);
        return BinaryPrimitives.ReadUInt128BigEndian(hash);
    }
}
