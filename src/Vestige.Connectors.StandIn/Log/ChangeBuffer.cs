using System.Buffers;

namespace Vestige.Connectors.StandIn.Log;

/// <summary>
/// Holds the changes of the open transaction in parts of about half a megabyte. Beyond a few megabytes the parts go to a
/// temporary file, so that one statement over a million rows needs no memory to match. One thread at a time.
/// </summary>
internal sealed class ChangeBuffer : IDisposable
{
    private const int PartBytes = 512 << 10;
    private const int MemoryBytes = 8 << 20;
    private readonly ArrayBufferWriter<byte> open = new(4096);
    private readonly List<Part> parts = [];
    private FileStream? file;
    private long inMemory;
    private int openCount;
    private long closedBytes;

    private sealed record Part(int Count, int Length, byte[]? Bytes, long Offset);

    public long Count { get; private set; }

    /// <summary>The length of all changes.</summary>
    public long Bytes => closedBytes + open.WrittenCount;

    /// <summary>Where the next change is written; call <see cref="Wrote"/> after each.</summary>
    public IBufferWriter<byte> Writer => open;

    public void Wrote()
    {
        Count++;
        openCount++;
        if (open.WrittenCount >= PartBytes)
        {
            Close();
        }
    }

    /// <summary>The place up to here, for <see cref="CutBack"/>.</summary>
    public BufferSavepoint Mark() => new(parts.Count, open.WrittenCount, openCount, Count, closedBytes, inMemory);

    /// <summary>Takes back what was written since a mark.</summary>
    public void CutBack(BufferSavepoint mark)
    {
        var kept = (parts.Count > mark.Parts ? BytesOf(parts[mark.Parts]) : open.WrittenMemory)[..mark.Open].ToArray();
        parts.RemoveRange(mark.Parts, parts.Count - mark.Parts);
        open.ResetWrittenCount();
        kept.CopyTo(open.GetSpan(kept.Length));
        open.Advance(kept.Length);
        (openCount, Count, closedBytes, inMemory) = (mark.OpenCount, mark.Count, mark.ClosedBytes, mark.InMemory);
    }

    /// <summary>All parts in order, with the number of changes in each.</summary>
    public IEnumerable<(int Count, ReadOnlyMemory<byte> Bytes)> Parts()
    {
        if (openCount > 0)
        {
            Close();
        }

        foreach (var part in parts)
        {
            yield return (part.Count, BytesOf(part));
        }
    }

    private ReadOnlyMemory<byte> BytesOf(Part part)
    {
        if (part.Bytes is not null)
        {
            return part.Bytes;
        }

        var bytes = new byte[part.Length];
        file!.Position = part.Offset;
        file.ReadExactly(bytes);
        return bytes;
    }

    public void Clear()
    {
        open.ResetWrittenCount();
        parts.Clear();
        inMemory = 0;
        openCount = 0;
        closedBytes = 0;
        Count = 0;
        file?.Dispose();
        file = null;
    }

    public void Dispose() => file?.Dispose();

    private void Close()
    {
        var bytes = open.WrittenSpan.ToArray();
        closedBytes += bytes.Length;
        open.ResetWrittenCount();
        if (inMemory + bytes.Length <= MemoryBytes)
        {
            inMemory += bytes.Length;
            parts.Add(new Part(openCount, bytes.Length, bytes, 0));
        }
        else
        {
            file ??= new FileStream(
                Path.Combine(Path.GetTempPath(), Path.GetRandomFileName()),
                new FileStreamOptions
                {
                    Mode = FileMode.CreateNew,
                    Access = FileAccess.ReadWrite,
                    Options = FileOptions.DeleteOnClose,
                }
            );
            var offset = file.Length;
            file.Position = offset;
            file.Write(bytes);
            parts.Add(new Part(openCount, bytes.Length, null, offset));
        }

        openCount = 0;
    }
}
