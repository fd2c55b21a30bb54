using Vestige.Connectors.PostgreSql.Wire;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.PostgreSql.Loading;

/// <summary>Gathers the rows of a copy, which the server sends one a message, into blocks.</summary>
internal sealed class CopyGatherer(string form)
{
    private const int BlockBytes = 1 << 16;
    private byte[] block = new byte[BlockBytes];
    private int held;
    private bool begun = form == CopyFormat.Text;

    public int Rows { get; private set; }

    public bool Full => held >= BlockBytes - (BlockBytes / 16);

    /// <summary>Takes a message; true when the copy has ended. Throws when the server says that it failed.</summary>
    public bool Take(WireMessage message, ReplicationLink link)
    {
        switch (message.Kind)
        {
            case 'd':
                Add(message.Body.Span);
                return false;
            case 'E':
                throw link.FailureOf(message.Body.Span);
            default:
                return message.Kind == 'Z';
        }
    }

    public RowBlock TakeBlock()
    {
        var taken = new RowBlock(block.AsMemory(0, held), Rows, form);
        block = new byte[BlockBytes];
        held = 0;
        Rows = 0;
        return taken;
    }

    /// <summary>The header of a binary copy comes with its first message, the trailer as the last.</summary>
    private void Add(ReadOnlySpan<byte> row)
    {
        if (!begun)
        {
            row = row[CopyFormat.Header.Length..];
            begun = true;
        }

        if (row.IsEmpty || (form == CopyFormat.Binary && row.SequenceEqual(CopyFormat.Trailer.Span)))
        {
            return;
        }

        if (held + row.Length > block.Length)
        {
            Array.Resize(ref block, Math.Max(held + row.Length, block.Length * 2));
        }

        row.CopyTo(block.AsSpan(held));
        held += row.Length;
        Rows++;
    }
}
