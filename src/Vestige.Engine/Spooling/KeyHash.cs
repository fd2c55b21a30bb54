using System.IO.Hashing;
using System.Text;
using Vestige.Core.Changes;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Spooling;

/// <summary>Hashes of row keys, for <see cref="KeyFilter"/>: of a table and, by kind and bytes, the values of its key.</summary>
internal static class KeyHash
{
    /// <summary>Of the table as a whole, under which its truncations are found; with it the hash of each of its keys begins.</summary>
    public static ulong Of(TableName table) => XxHash3.HashToUInt64(Encoding.UTF8.GetBytes(table.ToString()));

    /// <summary>Of the key of a row; the log carries the values of the key always.</summary>
    public static ulong Of(ulong table, Row row, IReadOnlyList<int> keyOrdinals)
    {
        var hash = table;
        for (var i = 0; i < keyOrdinals.Count; i++)
        {
            hash = XxHash3.HashToUInt64(row.ValueAt(keyOrdinals[i]), unchecked((long)(hash + (ulong)row.KindAt(keyOrdinals[i]))));
        }

        return hash;
    }
}
