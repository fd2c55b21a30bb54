using System.Collections.Concurrent;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Capturing;

/// <summary>
/// The tables whose changes a capture is asked to read, those it reads, and what is told of them and has yet to be written down. Safe
/// for several threads.
/// </summary>
internal sealed class CarriedTables
{
    private readonly Lock gate = new();
    private readonly HashSet<TableName> asked = [];
    private readonly ConcurrentQueue<(HashSet<TableName> Names, LogPosition After)> whole = new();
    private IReadOnlySet<TableName> read = new HashSet<TableName>();
    private bool more;

    /// <summary>Whether others were asked for since the log was opened.</summary>
    public bool More
    {
        get
        {
            lock (gate)
            {
                return more;
            }
        }
    }

    public void Ask(IEnumerable<TableName> wanted)
    {
        lock (gate)
        {
            var before = asked.Count;
            asked.UnionWith(wanted);
            more |= asked.Count != before;
        }
    }

    /// <summary>All that were asked for or are in the spool, for the log to be opened with.</summary>
    public HashSet<TableName> Choose(IReadOnlySet<TableName> spooled)
    {
        lock (gate)
        {
            asked.UnionWith(spooled);
            more = false;
            return [.. asked];
        }
    }

    /// <summary>These are read now.</summary>
    public void Reads(IReadOnlySet<TableName> chosen)
    {
        lock (gate)
        {
            read = chosen;
        }
    }

    /// <summary>Whether all of these are read.</summary>
    public bool Carries(List<TableName> wanted)
    {
        lock (gate)
        {
            return wanted.TrueForAll(read.Contains);
        }
    }

    /// <summary>All changes of tables after a position are held.</summary>
    public void RetainsWhole(IEnumerable<TableName> names, LogPosition after) => whole.Enqueue(([.. names], after));

    /// <summary>What was told first of that and is not written down; null when there is nothing.</summary>
    public (IReadOnlySet<TableName> Names, LogPosition After)? Reported => whole.TryPeek(out var told) ? told : null;

    /// <summary>The first of what was told is written down.</summary>
    public void Written() => whole.TryDequeue(out _);

    /// <summary>Nothing is asked for or read any more.</summary>
    public void Clear()
    {
        lock (gate)
        {
            asked.Clear();
            read = new HashSet<TableName>();
            whole.Clear();
        }
    }
}
