using System.Buffers;
using System.Buffers.Binary;
using Vestige.Core.Changes;

namespace Vestige.Core.Reconciling;

/// <summary>Values by their kind, length and bytes: for two databases of one engine whose values are not all texts.</summary>
public sealed class KindForm : IRowForm
{
    private KindForm() { }

    public static KindForm Instance { get; } = new();

    public void Write(Row row, IReadOnlyList<int> columns, IBufferWriter<byte> into)
    {
        ArgumentNullException.ThrowIfNull(columns);
        ArgumentNullException.ThrowIfNull(into);
        foreach (var column in columns)
        {
            var value = row.ValueAt(column);
            var head = into.GetSpan(5);
            head[0] = (byte)row.KindAt(column);
            BinaryPrimitives.WriteInt32LittleEndian(head[1..], value.Length);
            into.Advance(5);
            into.Write(value);
        }
    }
}
