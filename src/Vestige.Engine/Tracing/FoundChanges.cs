using Vestige.Core.Changes;

namespace Vestige.Engine.Tracing;

/// <summary>The latest of the changes that a search finds; rows are copied, for what they are found in is let go.</summary>
internal sealed class FoundChanges(int most)
{
    private readonly Queue<TracedChange> latest = [];

    public IReadOnlyList<TracedChange> Latest => [.. latest];

    /// <summary>Whether more were found.</summary>
    public bool More { get; private set; }

    public void Add(TracedChange found)
    {
        latest.Enqueue(
            found with
            {
                Change = found.Change with { Before = Copied(found.Change.Before), After = Copied(found.Change.After) },
            }
        );
        if (latest.Count > most)
        {
            latest.Dequeue();
            More = true;
        }
    }

    private static Row Copied(Row row) => row.IsNone ? default : new Row(row.Bytes.ToArray());
}
