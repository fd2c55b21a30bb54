using Vestige.Core.Positions;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Spooling;

/// <summary>The open files of a spool in log order, what of them may be read, and which must stay. Safe for several threads.</summary>
internal sealed class SpoolFileList(SpoolOptions options)
{
    private readonly Lock gate = new();
    private readonly SpoolRetention retention = new(options);
    private List<SpoolFileEntry> entries = [];
    private long visible;
    private long dropped;

    /// <summary>Everything after this position is in the files.</summary>
    public LogPosition Begin { get; set; }

    /// <summary>The file that is written. Asked by the writer only, once there is one.</summary>
    public SpoolFileEntry Newest => entries[^1];

    public bool IsEmpty
    {
        get
        {
            lock (gate)
            {
                return entries.Count == 0;
            }
        }
    }

    public long Bytes
    {
        get
        {
            lock (gate)
            {
                return entries.Sum(entry => entry.File.Bytes);
            }
        }
    }

    /// <summary>Bytes that they have held since the spool was opened, with those that were taken out.</summary>
    public long Written
    {
        get
        {
            lock (gate)
            {
                return dropped + entries.Sum(entry => entry.File.Bytes);
            }
        }
    }

    /// <summary>Their numbers, in log order.</summary>
    public IReadOnlyList<long> Numbers
    {
        get
        {
            lock (gate)
            {
                return [.. entries.Select(entry => entry.Number)];
            }
        }
    }

    /// <summary>Takes other files in place of those that are there, and returns these, which the caller closes.</summary>
    public List<SpoolFileEntry> Replace(List<SpoolFileEntry> found)
    {
        lock (gate)
        {
            var old = entries;
            entries = found;
            return old;
        }
    }

    /// <summary>A new file, of which nothing may be read yet.</summary>
    public void Add(SpoolFileEntry entry)
    {
        lock (gate)
        {
            visible = 0;
            entries.Add(entry);
        }
    }

    /// <summary>The newest file may be read up to a record.</summary>
    public void Show(long sequence)
    {
        lock (gate)
        {
            visible = sequence;
        }
    }

    /// <summary>The file that holds what follows the position: the first whose last transaction is after it, else the newest.</summary>
    public SpoolFileEntry? After(LogPosition position)
    {
        lock (gate)
        {
            return entries.Find(entry => entry.Last > position) ?? (entries.Count > 0 ? entries[^1] : null);
        }
    }

    /// <summary>
    /// The file of that number and, once it is closed, the number of the one after it. Of the newest file a reader may see
    /// only what a sync has acknowledged: what lies after it may yet be cut off and written again.
    /// </summary>
    public (ISpoolFile File, int Branch, long? Successor, long Visible) Of(long number)
    {
        lock (gate)
        {
            var index = entries.FindIndex(entry => entry.Number == number);
            if (index < 0)
            {
                throw new PortException($"The spool's file {number} is not open.") { Transient = true };
            }

            var closed = index + 1 < entries.Count;
            return (
                entries[index].File,
                entries[index].Header.Branch,
                closed ? entries[index + 1].Number : null,
                closed ? long.MaxValue : visible
            );
        }
    }

    /// <summary>Keeps everything after a position for a crossing; null keeps everything until its position is known.</summary>
    /// <param name="crossing">The crossing.</param>
    /// <param name="position">The position.</param>
    /// <param name="wish">After where it is wanted besides, as long as there is room; null where it is not.</param>
    public void Retain(string crossing, LogPosition? position, LogPosition? wish = null)
    {
        lock (gate)
        {
            retention.Retain(crossing, position, wish);
        }
    }

    /// <summary>The crossing no longer needs anything kept.</summary>
    public void Release(string crossing)
    {
        lock (gate)
        {
            retention.Release(crossing);
        }
    }

    /// <summary>
    /// Bytes of the files that a crossing still needs: a file stays until all of it is passed. Null where nothing is kept for it.
    /// </summary>
    public long? NeededBy(string crossing)
    {
        lock (gate)
        {
            return retention.Find(crossing, out var position)
                ? entries.Where(entry => position is null || entry.Last > position).Sum(entry => entry.File.Bytes)
                : null;
        }
    }

    /// <summary>Takes out the oldest file, if nobody needs it and it lies beyond the kept span; the caller closes it.</summary>
    /// <param name="last">The last durable transaction.</param>
    public SpoolFileEntry? TakeOldest(LogPosition last)
    {
        lock (gate)
        {
            if (!retention.MayDropOldest(entries, last))
            {
                return null;
            }

            var oldest = entries[0];
            dropped += oldest.File.Bytes;
            entries.RemoveAt(0);
            Begin = entries[0].Header.Start;
            return oldest;
        }
    }
}
