using System.Buffers;
using System.Buffers.Binary;
using System.Diagnostics.CodeAnalysis;
using System.Security.Cryptography;
using Vestige.Core.Changes;

namespace Vestige.Core.Reconciling;

/// <summary>
/// Hashes of rows, each of the row in a form that both sides share: by <see cref="Standard"/> unless another function is given. They
/// are taken for their 128 bits; whoever can write rows could make two of one hash, so that they prove nothing against an attacker. Not
/// safe for several threads.
/// </summary>
/// <param name="form">The form.</param>
/// <param name="function">For rows that no database hashes itself; null for <see cref="Standard"/>.</param>
public sealed class RowHash(IRowForm form, HashFunction? function = null)
{
    private readonly HashFunction hash = function ?? Standard;
    private readonly ArrayBufferWriter<byte> written = new(1024);

    /// <summary>The hash of all columns of a row.</summary>
    public UInt128 Of(Row row) => Of(row, row.Ordinals);

    /// <summary>The hash of some columns of a row, in that order.</summary>
    public UInt128 Of(Row row, IReadOnlyList<int> columns)
    {
        written.ResetWrittenCount();
        form.Write(row, columns, written);
        return hash(written.WrittenSpan);
    }

    /// <summary>MD5 (RFC 1321), which databases compute too, read as a number with its first byte highest.</summary>
    [SuppressMessage(
        "Security",
        "CA5351:Do Not Use Broken Cryptographic Algorithms",
        Justification = "Compared, not trusted: databases compute the same."
    )]
    public static UInt128 Standard(ReadOnlySpan<byte> bytes)
    {
        Span<byte> made = stackalloc byte[MD5.HashSizeInBytes];
        MD5.HashData(bytes, made);
        return BinaryPrimitives.ReadUInt128BigEndian(made);
    }
}
